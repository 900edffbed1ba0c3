import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Empty, Field, Input, NumberInput, Part, Problem, Select } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useAct, useMachines, useNames, useTargets } from "../queries";

/** Names that applications ask for, and what answers under each. */
export function Names() {
  const { data, error } = useNames();
  const targets = useTargetNames();
  const [shown, setShown] = useState<api.Name>();
  const [removing, setRemoving] = useState<api.Name>();
  const set = useAct(api.setName, { changes: ["names"], says: (n) => `${spoken(n.name)} is changed, from the next request on.` });
  const remove = useAct(api.removeName, { changes: ["names"], says: (_, name) => `Nothing answers under ${spoken(name)} any more.` });
  return (
    <Part
      title="Public names"
      lead="Names that applications ask for, and the models or presets that serve them. Changes hold from the next request on; answers in progress stay where they are."
      action={
        <Button onClick={() => setShown({ name: "", of: [{ to: targets[0] ?? "" }] })} disabled={targets.length === 0}>
          Add a name
        </Button>
      }
    >
      {error && <Problem>{error.message}</Problem>}
      {set.error && <Problem>{set.error.message}</Problem>}
      {data?.length === 0 && <Empty>There is none yet. The name * answers whatever is asked for that nothing else has.</Empty>}
      {data?.map((n) => (
        <div key={n.name} className="grid gap-x-6 gap-y-2 border-t border-rule py-3 sm:grid-cols-[12rem_minmax(0,1fr)_auto]" data-testid={`name ${n.name}`}>
          <div>
            <p className="font-medium break-all">{n.name === "*" ? "* (all others)" : n.name}</p>
            {n.of.length > 1 && <p className="text-small text-faded">{ways.find((w) => w.value === (n.strategy || "in_order"))?.label}</p>}
          </div>
          <ul className="grid content-start gap-1.5">
            {n.of.map((t, i) => (
              <li key={i} className={`flex flex-wrap items-center gap-x-4 ${t.drained ? "text-faded" : ""}`}>
                <Health target={t.to} known={targets} />
                <span className="text-small text-faded">{about(n, t)}</span>
                {n.of.length > 1 && (
                  <Button
                    weight="quiet"
                    disabled={set.isPending}
                    aria-label={`${t.drained ? "Use" : "Drain"} ${t.to} of ${n.name}`}
                    onClick={() => set.mutate({ ...n, of: n.of.map((o, j) => (j === i ? { ...o, drained: !t.drained } : o)) })}
                  >
                    {t.drained ? "Use again" : "Drain"}
                  </Button>
                )}
              </li>
            ))}
            {n.shadow && (
              <li className="text-small text-faded">
                {Math.round((n.shadow.share ?? 1) * 100)} % of requests also go to {n.shadow.to}, whose answers are compared and not given
              </li>
            )}
          </ul>
          <span className="flex gap-3 sm:justify-end">
            <Button weight="quiet" aria-label={`Change ${n.name}`} onClick={() => setShown(n)}>
              Change
            </Button>
            <Button weight="quiet" aria-label={`Remove ${n.name}`} onClick={() => setRemoving(n)}>
              Remove
            </Button>
          </span>
        </div>
      ))}
      {shown && <NameDialog name={shown} fresh={shown.name === ""} targets={targets} onClose={() => setShown(undefined)} />}
      {removing && (
        <Confirm
          title={`Remove ${spoken(removing.name)}?`}
          description="Applications that ask for it are told that it is not installed. What answered under it stays."
          act="Remove"
          onAct={() => remove.mutateAsync(removing.name)}
          onClose={() => setRemoving(undefined)}
        />
      )}
    </Part>
  );
}

const ways = [
  { value: "in_order", label: "in order" },
  { value: "least_busy", label: "least busy" },
  { value: "weighted", label: "weighted" },
  { value: "prefix_affinity", label: "prefix affinity" },
  { value: "placement", label: "placement" },
] as const;

const spoken = (name: string) => (name === "*" ? "every name that nothing else has" : `“${name}”`);

/** What can be a target: models here and elsewhere, models on any machine, and presets. */
const useTargetNames = () => {
  const machines = useMachines().data ?? [];
  const anywhere = new Set(machines.flatMap((m) => m.models.map((one) => `*/${one.name}`)));
  return [
    ...useTargets(false)
      .filter((t) => t.kind !== "name" && (t.kind !== "machine" || t.name.includes("/")))
      .map((t) => t.name),
    ...anywhere,
  ];
};

/** A target with whether it can answer now. */
function Health({ target, known }: { target: string; known: string[] }) {
  const machines = useMachines();
  const machine = machines.data?.find((m) => target.startsWith(`${m.name}/`));
  const anywhere = target.startsWith("*/");
  const holders = anywhere ? (machines.data ?? []).filter((m) => m.models.some((one) => `*/${one.name}` === target)) : [];
  const [look, says] = anywhere
    ? holders.some((m) => m.healthy)
      ? ["bg-moss", `on ${holders.length} ${holders.length === 1 ? "machine" : "machines"}`]
      : ["bg-vermilion", "on no machine now"]
    : machine && !machine.healthy ? ["bg-vermilion", "unreachable"] : known.includes(target) ? ["bg-moss", "healthy"] : ["bg-brass", "not found"];
  return (
    <span className="flex items-center gap-2">
      <span aria-hidden className={`size-2 shrink-0 rounded-full ${look}`} />
      <span className="break-all">{target}</span>
      <span className={look === "bg-moss" && !anywhere ? "sr-only" : "text-small text-faded"}>{says}</span>
    </span>
  );
}

/** What is to be said of a target: its share, the requests that it is for, and that it is drained. Whatever else a target has is a condition. */
function about(n: api.Name, { to: _, share, drained, ...conditions }: api.Name["of"][number]): string {
  return [n.strategy === "weighted" ? `share ${share ?? 1}` : "", ...Object.values(conditions).map((c) => `for ${[c].flat().join(", ")}`), drained ? "drained" : ""].filter(Boolean).join("; ");
}

function NameDialog({ name, fresh, targets, onClose }: { name: api.Name; fresh: boolean; targets: string[]; onClose: () => void }) {
  const [n, setN] = useState(name);
  const save = useAct(api.setName, { changes: ["names"], says: (done) => `${spoken(done.name)} is served by ${done.of.map((t) => t.to).join(", ")} from now on.` });
  const change = (i: number, t: Partial<api.Name["of"][number]>) => setN({ ...n, of: n.of.map((o, j) => (j === i ? { ...o, ...t } : o)) });
  const options = [...new Set([...n.of.map((t) => t.to), ...targets])].map((value) => ({ value }));
  function submit(e: FormEvent) {
    e.preventDefault();
    if (!save.isPending) save.mutate({ ...n, name: n.name.trim() }, { onSuccess: onClose });
  }
  return (
    <Dialog open onClose={onClose} title={fresh ? "Add a name" : `Change ${spoken(name.name)}`} description="Applications ask for the name, and what you choose here answers.">
      <form onSubmit={submit} className="grid gap-4">
        {save.error && <Problem>{save.error.message}</Problem>}
        {fresh && (
          <Field label="Name" id="name-name">
            <Input autoFocus value={n.name} onChange={(e) => setN({ ...n, name: e.target.value })} placeholder="timetable" />
          </Field>
        )}
        {n.of.map((t, i) => (
          <div key={i} className="grid grid-cols-[minmax(0,1fr)_5rem_auto] items-end gap-3">
            <Field label={i === 0 ? "Served by" : "or by"} id={`name-target-${i}`}>
              <Select value={t.to} onChange={(to) => change(i, { to })} options={options} />
            </Field>
            {n.strategy === "weighted" ? (
              <Field label="Share" id={`name-share-${i}`}>
                <NumberInput min={1} max={1000} value={t.share ?? 1} onChange={(share) => change(i, { share })} />
              </Field>
            ) : (
              <span />
            )}
            {n.of.length > 1 ? (
              <Button weight="quiet" aria-label={`Take ${t.to} out`} onClick={() => setN({ ...n, of: n.of.filter((_, j) => j !== i) })}>
                Take out
              </Button>
            ) : (
              <span />
            )}
          </div>
        ))}
        <div className="flex flex-wrap items-end gap-4">
          <Button onClick={() => setN({ ...n, of: [...n.of, { to: targets.find((t) => !n.of.some((o) => o.to === t)) ?? "" }] })} disabled={n.of.length >= targets.length}>
            One more
          </Button>
          {n.of.length > 1 && (
            <div className="w-60">
              <Field label="Which of them" id="name-way">
                <Select value={n.strategy || "in_order"} onChange={(strategy) => setN({ ...n, strategy: strategy as api.Name["strategy"] })} options={[...ways]} />
              </Field>
            </div>
          )}
        </div>
        <div className="grid grid-cols-[minmax(0,1fr)_7rem] gap-3">
          <Field label="Shadow" id="name-shadow" help="Some requests go to it as well; its answers are compared and not given.">
            <Select value={n.shadow?.to ?? ""} onChange={(to) => setN({ ...n, shadow: to ? { to, share: n.shadow?.share ?? 0.1 } : undefined })} options={[{ value: "", label: "none" }, ...options]} />
          </Field>
          {n.shadow && (
            <Field label="Percent" id="name-shadow-share">
              <NumberInput min={1} max={100} value={Math.round((n.shadow.share ?? 1) * 100)} onChange={(p) => n.shadow && setN({ ...n, shadow: { ...n.shadow, share: (p ?? 1) / 100 } })} />
            </Field>
          )}
        </div>
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" busy={save.isPending} disabled={!n.name.trim() || n.of.some((t) => !t.to)}>
            {fresh ? "Add" : "Save"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
