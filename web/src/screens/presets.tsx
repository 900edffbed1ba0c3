import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Checkbox, Field, Input, NumberInput, Part, Problem, Select, TextArea } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useAct, usePresets, useTools } from "../queries";

export function Presets({ models }: { models: api.Model[] }) {
  const { data, error } = usePresets();
  const [editing, setEditing] = useState<api.Preset | "new">();
  const [removing, setRemoving] = useState<api.Preset>();
  const remove = useAct(api.removePreset, { changes: ["presets"], says: (_, name) => `${name} is removed.` });
  return (
    <Part
      title="Presets"
      lead="A model with instructions and settings, under a name of its own. Applications ask for it as for a model."
      action={
        <Button onClick={() => setEditing("new")} disabled={models.length === 0}>
          Add a preset
        </Button>
      }
    >
      {error && <Problem>{error.message}</Problem>}
      {data?.map((p) => (
        <div key={p.name} className="grid items-center gap-x-6 gap-y-1 border-t border-rule py-3 md:grid-cols-[12rem_10rem_minmax(0,1fr)_auto]">
          <span className="font-medium">{p.name}</span>
          <span className="text-faded">{p.model}</span>
          <span className="truncate">{p.instructions}</span>
          <span className="flex gap-5 md:justify-end">
            <Button weight="quiet" aria-label={`Change ${p.name}`} onClick={() => setEditing(p)}>
              Change
            </Button>
            <Button weight="quiet" aria-label={`Remove ${p.name}`} onClick={() => setRemoving(p)}>
              Remove
            </Button>
          </span>
        </div>
      ))}
      {editing && <PresetDialog models={models} preset={editing === "new" ? undefined : editing} onClose={() => setEditing(undefined)} />}
      {removing && (
        <Confirm
          title={`Remove “${removing.name}”?`}
          description="Applications that ask for it are told that it is not installed. Its model stays."
          act="Remove"
          onAct={() => remove.mutateAsync(removing.name)}
          onClose={() => setRemoving(undefined)}
        />
      )}
    </Part>
  );
}

function PresetDialog({ models, preset, onClose }: { models: api.Model[]; preset?: api.Preset; onClose: () => void }) {
  const [draft, setDraft] = useState<api.Preset>(preset ?? { name: "", model: models[0]?.id ?? "" });
  const offered = useTools().data?.servers.map((s) => s.name) ?? [];
  const set = (part: Partial<api.Preset>) => setDraft({ ...draft, ...part });
  const save = useAct(preset ? api.changePreset : api.addPreset, { changes: ["presets"], says: (p) => `${p.name} is ${preset ? "changed" : "added"}.` });

  function submit(e: FormEvent) {
    e.preventDefault();
    if (!save.isPending) save.mutate(draft, { onSuccess: onClose });
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={preset ? `Change “${preset.name}”` : "Add a preset"}
      description="What it adds comes ahead of what a request says; settings hold where a request names none."
    >
      <form onSubmit={submit} className="grid gap-4">
        {!preset && (
          <Field label="Name" id="preset-name">
            <Input autoFocus value={draft.name} onChange={(e) => set({ name: e.target.value })} placeholder="harbour-master" />
          </Field>
        )}
        <div className="grid grid-cols-2 gap-4">
          <Field label="Model" id="preset-model">
            <Select value={draft.model} onChange={(model) => set({ model })} options={models.map((m) => ({ value: m.id }))} />
          </Field>
          <Field label="Temperature" id="preset-temperature">
            <NumberInput min={0} max={2} step={0.1} value={draft.temperature} onChange={(temperature) => set({ temperature })} placeholder="the model's own" />
          </Field>
        </div>
        <Field label="Instructions" id="preset-instructions">
          <TextArea value={draft.instructions ?? ""} onChange={(e) => set({ instructions: e.target.value })} placeholder="You are a cheerful harbour master." />
        </Field>
        {offered.length > 0 && (
          <fieldset className="grid gap-1.5">
            <legend className="pb-1 text-small font-medium">Tools that the gate runs for the model</legend>
            <div className="flex flex-wrap gap-x-6 gap-y-1">
              {[...new Set([...offered, ...(draft.tools ?? [])])].map((name) => (
                <Checkbox key={name} checked={draft.tools?.includes(name) ?? false} onChange={() => set({ tools: draft.tools?.includes(name) ? draft.tools.filter((t) => t !== name) : [...(draft.tools ?? []), name] })}>
                  {name}
                </Checkbox>
              ))}
            </div>
            <p className="text-small text-faded">A key needs them, too: what it may use is among its terms.</p>
          </fieldset>
        )}
        <Field label="Chat template" id="preset-template" help="In the place of the model’s own, which holds if this is empty. It is tried before it is kept.">
          <TextArea spellCheck={false} value={draft.template ?? ""} onChange={(e) => set({ template: e.target.value })} className="tabular" />
        </Field>
        {draft.examples?.length ? <p className="text-small text-faded">{draft.examples.length} example turns are kept as they are.</p> : null}
        {save.error && <Problem>{save.error.message}</Problem>}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" busy={save.isPending} disabled={!draft.name.trim() || !draft.model}>
            {preset ? "Change" : "Add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
