import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Empty, Field, Input, Part, Problem, Select } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useAct, useNames, usePresets } from "../queries";

/** Names that applications ask for, each of which another model can answer at the flip of a switch. */
export function Names({ models }: { models: api.Model[] }) {
  const { data, error } = useNames();
  const presets = usePresets();
  const [adding, setAdding] = useState(false);
  const [forgetting, setForgetting] = useState<api.Name>();
  const set = useAct(api.setName, { changes: ["names"], says: (n) => `${n.target} answers under ${spoken(n.name)} from now on.` });
  const forget = useAct(api.forgetName, { changes: ["names"], says: (_, name) => `Nothing answers under ${spoken(name)} any more.` });
  const targets = [...models.map((m) => m.id), ...(presets.data?.map((p) => p.name) ?? [])];
  return (
    <Part
      title="Public names"
      lead="What applications ask for, where you decide which model or preset answers. They need not know when that changes."
      action={
        <Button onClick={() => setAdding(true)} disabled={targets.length === 0}>
          Add a name
        </Button>
      }
    >
      {error && <Problem>{error.message}</Problem>}
      {set.error && <Problem>{set.error.message}</Problem>}
      {data?.length === 0 && <Empty>There is none yet. The name * answers whatever is asked for that nothing else has.</Empty>}
      {data?.map((n) => (
        <div key={n.name} className="grid items-center gap-x-6 gap-y-1 border-t border-rule py-3 sm:grid-cols-[12rem_minmax(0,16rem)_1fr]">
          <span className="font-medium break-all">{n.name === "*" ? "* (all others)" : n.name}</span>
          <Select
            label={`What answers under ${spoken(n.name)}`}
            value={n.target}
            disabled={set.isPending}
            onChange={(target) => set.mutate({ name: n.name, target })}
            options={[...new Set([n.target, ...targets])].map((value) => ({ value, label: targets.includes(value) ? value : `${value} (not there)` }))}
          />
          <span className="sm:text-right">
            <Button weight="quiet" aria-label={`Forget ${n.name}`} onClick={() => setForgetting(n)}>
              Forget
            </Button>
          </span>
        </div>
      ))}
      {adding && <NameDialog targets={targets} onClose={() => setAdding(false)} />}
      {forgetting && (
        <Confirm
          title={`Forget ${spoken(forgetting.name)}?`}
          description="Applications that ask for it are told that it is not installed. What answered under it stays."
          act="Forget"
          onAct={() => forget.mutateAsync(forgetting.name)}
          onClose={() => setForgetting(undefined)}
        />
      )}
    </Part>
  );
}

const spoken = (name: string) => (name === "*" ? "every name that nothing else has" : `“${name}”`);

function NameDialog({ targets, onClose }: { targets: string[]; onClose: () => void }) {
  const [name, setName] = useState("");
  const [target, setTarget] = useState(targets[0] ?? "");
  const save = useAct(api.setName, { changes: ["names"], says: (n) => `${n.target} answers under ${spoken(n.name)} from now on.` });
  function submit(e: FormEvent) {
    e.preventDefault();
    if (!save.isPending) save.mutate({ name: name.trim(), target }, { onSuccess: onClose });
  }
  return (
    <Dialog open onClose={onClose} title="Add a name" description="Applications ask for the name, and what you choose here answers.">
      <form onSubmit={submit} className="grid gap-4">
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Name" id="name-name" wrong={save.error?.message}>
            <Input autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder="timetable" />
          </Field>
          <Field label="Answered by" id="name-target">
            <Select value={target} onChange={setTarget} options={targets.map((value) => ({ value }))} />
          </Field>
        </div>
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" busy={save.isPending} disabled={!name.trim() || !target}>
            Add
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
