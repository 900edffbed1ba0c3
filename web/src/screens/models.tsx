import { useState } from "react";
import * as api from "../api";
import { Button, Empty, Heading, Problem, Skeleton } from "../design/controls";
import { Confirm } from "../design/dialog";
import { useAct, useModels } from "../queries";
import { bytes, count } from "../words";
import { AddModel } from "./add-model";
import { Presets } from "./presets";

export function ModelsScreen() {
  const { data, error } = useModels();
  const [adding, setAdding] = useState(false);
  const [removing, setRemoving] = useState<api.Removed>();
  const changes = ["models", "presets"];
  const load = useAct((m: api.Model) => (m.loaded ? api.unloadModel(m.id) : api.loadModel(m.id)), { changes, says: (m) => `${m.id} is ${m.loaded ? "loaded" : "unloaded"}.` });
  const look = useAct(api.tryRemoveModel, { changes: [] });
  const remove = useAct(api.removeModel, { changes, says: (f) => `${f.model} is removed.` });
  const problem = load.error ?? look.error;

  return (
    <section>
      <Heading
        title="Models"
        lead="What is installed in the models folders. Applications ask for a model by its name."
        action={
          <Button weight="primary" onClick={() => setAdding(true)}>
            Add a model
          </Button>
        }
      />
      {error && <Problem>{error.message}</Problem>}
      {problem && <Problem>{problem.message}</Problem>}
      {!data && !error && <Skeleton lines={6} />}
      {data?.problem && <Problem>Some folders could not be read: {data.problem}</Problem>}
      {data && data.models.length === 0 && (
        <Empty>No model is installed yet. Add one, or put it into one of the models folders; it shows up here by itself.</Empty>
      )}
      {data?.models.map((m) => (
        <Model
          key={m.id}
          model={m}
          busy={load.isPending && load.variables.id === m.id}
          onLoad={() => load.mutate(m)}
          onRemove={() => look.mutate(m.id, { onSuccess: setRemoving })}
        />
      ))}
      {data && <Presets models={data.models.filter((m) => !m.problem)} />}
      {adding && <AddModel onClose={() => setAdding(false)} />}
      {removing && (
        <Confirm
          title={`Remove ${removing.model}?`}
          description={
            removing.linked
              ? "Only the link in the models folder goes; the files lie elsewhere and stay as they are."
              : `This deletes ${removing.files} file${removing.files === 1 ? "" : "s"} with ${bytes(removing.bytes)} at ${removing.path}.`
          }
          act={removing.linked ? "Remove it" : "Delete it"}
          onAct={() => remove.mutateAsync(removing.model)}
          onClose={() => setRemoving(undefined)}
        />
      )}
    </section>
  );
}

function Model({ model: m, busy, onLoad, onRemove }: { model: api.Model; busy: boolean; onLoad: () => void; onRemove: () => void }) {
  return (
    <article className="grid gap-x-10 gap-y-4 border-t border-rule py-6 md:grid-cols-[minmax(0,1fr)_28rem]">
      <div className="min-w-0">
        <h2 className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-serif text-large font-medium">{m.id}</span>
          <State model={m} />
        </h2>
        {m.description && <p className="mt-1 max-w-xl">{m.description}</p>}
        {m.problem && (
          <div className="mt-3 max-w-xl">
            <Problem>
              {m.problem}
              {m.nearest && <span className="block text-faded">What would run: {m.nearest}.</span>}
            </Problem>
          </div>
        )}
        <p className="tabular mt-3 text-small break-all text-faded">{m.path}</p>
        <div className="mt-3 flex gap-3">
          {!m.problem && (
            <Button
              busy={busy || m.loading}
              aria-label={`${m.loaded ? "Unload" : "Load"} ${m.id}`}
              onClick={onLoad}
            >
              {m.loaded ? "Unload" : m.loading || busy ? "Loading…" : "Load"}
            </Button>
          )}
          <Button weight="quiet" aria-label={`Remove ${m.id}`} onClick={onRemove}>
            Remove
          </Button>
        </div>
      </div>
      <dl className="grid grid-cols-2 content-start gap-x-6 gap-y-3 sm:grid-cols-3">
        <Fact name="Used for" value={m.use} />
        <Fact name="Family" value={m.architecture} />
        <Fact name="Parameters" value={m.parameters && count(m.parameters)} number />
        <Fact name="Weights" value={m.weights && `${m.weights}, ${bytes(m.size)}`} number />
        <Fact name="Layout" value={m.layout} />
        <Fact name="Context" value={m.context_length && `${m.context_length} tokens`} number />
        <Fact name="Trained with" value={m.trained_context && `${m.trained_context} tokens`} number />
        <Fact name="Whole context" value={m.context_bytes && bytes(m.context_bytes)} number />
        <Fact name="State of a context" value={m.state_bytes && bytes(m.state_bytes)} number />
        <Fact name="Attention" value={m.attention?.join("; ")} />
        <Fact name="Pictures" value={m.pictures && (m.pictures.problem ? `none: ${m.pictures.problem}` : m.pictures.tokens ? `${m.pictures.tokens} tokens each` : `${m.pictures.least} to ${m.pictures.most} tokens each, by their size`)} />
        <Fact name="Memory now" value={m.loaded && m.memory ? `up to ${bytes(m.memory)}` : undefined} number />
        <Fact name="Vectors" value={m.dimensions && `${m.dimensions} numbers`} number />
        <Fact name="Purposes" value={m.purposes?.join(", ")} />
        <Fact name="Vocabulary" value={m.vocabulary && `${m.vocabulary} tokens`} number />
        <Fact name="Licence" value={m.license} />
        <Fact name="Temperature" value={m.defaults.temperature} number />
        <Fact name="Top-p" value={m.defaults.top_p} number />
        <Fact name="Capabilities" value={m.ability && `${m.ability.passed.toFixed(1)} of ${m.ability.cases} cases`} number />
        {m.template && (
          <>
            <Fact name="Instructions" value={m.template.system ? "system turn" : "first user turn"} />
            <Fact name="Tools" value={!m.template.tools ? "not shown" : m.template.parallel_calls ? "several calls" : "one call"} />
            <Fact name="Reasoning" value={m.template.thinking ? "on request" : "no switch"} />
          </>
        )}
      </dl>
    </article>
  );
}

function State({ model: m }: { model: api.Model }) {
  if (m.arriving) return <span className="text-small text-brass">arriving</span>;
  if (m.problem) return <span className="text-small text-vermilion">unusable</span>;
  if (m.loading) return <span className="text-small text-brass">loading</span>;
  if (m.loaded && m.unread) return <span className="text-small text-moss">{`loaded, ${Math.floor(100 - (100 * m.unread) / Math.max(m.size, m.unread))} % of it in memory`}</span>;
  if (m.loaded && m.unprepared) return <span className="text-small text-moss">{`loaded, ${Math.floor(100 - (100 * m.unprepared) / Math.max(m.size, m.unprepared))} % optimised for this processor`}</span>;
  if (m.loaded) return <span className="text-small text-moss">{m.kept ? "loaded, kept" : "loaded"}</span>;
  return <span className="text-small text-faded">loads at the first request</span>;
}

function Fact({ name, value, number }: { name: string; value?: string | number; number?: boolean }) {
  if (value === undefined || value === "" || value === 0) return null;
  return (
    <div>
      <dt className="text-small text-faded">{name}</dt>
      <dd className={number ? "tabular" : ""}>{value}</dd>
    </div>
  );
}
