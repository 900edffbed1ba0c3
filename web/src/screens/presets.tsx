import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Field, Problem, inputStyle } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useLoad } from "../load";
import { message } from "../words";

export function Presets({ models }: { models: api.Model[] }) {
  const { data, error, reload } = useLoad(api.presets, 5000);
  const [editing, setEditing] = useState<api.Preset | "new">();
  const [forgetting, setForgetting] = useState<api.Preset>();
  const done = () => {
    setEditing(undefined);
    setForgetting(undefined);
    void reload();
  };
  return (
    <section className="mt-6 border-t border-rule pt-6">
      <div className="flex flex-wrap items-end justify-between gap-4 pb-4">
        <div>
          <h2 className="font-serif text-large font-medium">Presets</h2>
          <p className="text-faded">A model with instructions and settings, under a name of its own. Applications ask for it as for a model.</p>
        </div>
        <Button onClick={() => setEditing("new")} disabled={models.length === 0}>
          Add a preset
        </Button>
      </div>
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
            <Button weight="quiet" aria-label={`Forget ${p.name}`} onClick={() => setForgetting(p)}>
              Forget
            </Button>
          </span>
        </div>
      ))}
      {editing && <PresetDialog models={models} preset={editing === "new" ? undefined : editing} onClose={done} />}
      {forgetting && (
        <Confirm
          title={`Forget “${forgetting.name}”?`}
          description="Applications that ask for it are told that it is not installed. Its model stays."
          act="Forget"
          onAct={() => api.forgetPreset(forgetting.name)}
          onClose={done}
        />
      )}
    </section>
  );
}

function PresetDialog({ models, preset, onClose }: { models: api.Model[]; preset?: api.Preset; onClose: () => void }) {
  const [draft, setDraft] = useState<api.Preset>(preset ?? { name: "", model: models[0]?.id ?? "" });
  const [problem, setProblem] = useState("");
  const set = (part: Partial<api.Preset>) => setDraft({ ...draft, ...part });

  async function submit(e: FormEvent) {
    e.preventDefault();
    try {
      await (preset ? api.changePreset(draft) : api.addPreset(draft));
      onClose();
    } catch (e) {
      setProblem(message(e));
    }
  }

  return (
    <Dialog
      open
      onClose={onClose}
      title={preset ? `Change “${preset.name}”` : "Add a preset"}
      description="What it adds comes ahead of what a request says; settings hold where a request names none."
    >
      <form onSubmit={(e) => void submit(e)} className="grid gap-4">
        {!preset && (
          <Field label="Name" htmlFor="preset-name">
            <input id="preset-name" autoFocus value={draft.name} onChange={(e) => set({ name: e.target.value })} placeholder="harbour-master" className={`${inputStyle} h-9`} />
          </Field>
        )}
        <div className="grid grid-cols-2 gap-4">
          <Field label="Model" htmlFor="preset-model">
            <select id="preset-model" value={draft.model} onChange={(e) => set({ model: e.target.value })} className={`${inputStyle} h-9`}>
              {models.map((m) => (
                <option key={m.id}>{m.id}</option>
              ))}
            </select>
          </Field>
          <Field label="Temperature" htmlFor="preset-temperature">
            <input
              id="preset-temperature"
              type="number"
              min={0}
              max={2}
              step={0.1}
              value={draft.temperature ?? ""}
              onChange={(e) => set({ temperature: e.target.value === "" ? undefined : Number(e.target.value) })}
              placeholder="the model's own"
              className={`${inputStyle} tabular h-9`}
            />
          </Field>
        </div>
        <Field label="Instructions" htmlFor="preset-instructions">
          <textarea
            id="preset-instructions"
            rows={2}
            value={draft.instructions ?? ""}
            onChange={(e) => set({ instructions: e.target.value })}
            placeholder="You are a cheerful harbour master."
            className={`${inputStyle} resize-y py-2`}
          />
        </Field>
        <Field label="Chat template" htmlFor="preset-template" help="In the place of the model’s own, which holds if this is empty. It is tried before it is kept.">
          <textarea
            id="preset-template"
            rows={2}
            spellCheck={false}
            value={draft.template ?? ""}
            onChange={(e) => set({ template: e.target.value })}
            className={`${inputStyle} tabular resize-y py-2`}
          />
        </Field>
        {draft.examples?.length ? <p className="text-small text-faded">{draft.examples.length} example turns are kept as they are.</p> : null}
        {problem && <Problem>{problem}</Problem>}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" disabled={!draft.name.trim() || !draft.model}>
            {preset ? "Change" : "Add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
