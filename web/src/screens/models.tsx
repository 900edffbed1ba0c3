import * as api from "../api";
import { Heading, Problem } from "../design/controls";
import { useLoad } from "../load";
import { bytes, count } from "../words";
import { Presets } from "./presets";

export function ModelsScreen() {
  const { data, error } = useLoad(api.models, 5000);
  return (
    <section>
      <Heading title="Models" lead="What is installed in the models folders. Applications ask for a model by its name." />
      {error && <Problem>{error.message}</Problem>}
      {data?.problem && <Problem>Some folders could not be read: {data.problem}</Problem>}
      {data && data.models.length === 0 && (
        <p className="border-t border-rule py-6">No model is installed yet. Put a .gguf file into one of the models folders; it shows up here by itself.</p>
      )}
      {data?.models.map((m) => <Model key={m.id} model={m} />)}
      {data && <Presets models={data.models.filter((m) => !m.problem)} />}
    </section>
  );
}

function Model({ model: m }: { model: api.Model }) {
  return (
    <article className="grid gap-x-10 gap-y-4 border-t border-rule py-6 md:grid-cols-[minmax(0,1fr)_26rem]">
      <div className="min-w-0">
        <h2 className="flex flex-wrap items-baseline gap-x-3">
          <span className="font-serif text-large font-medium">{m.id}</span>
          <State model={m} />
        </h2>
        {m.description && <p className="mt-1 max-w-xl">{m.description}</p>}
        {m.problem && (
          <div className="mt-3 max-w-xl">
            <Problem>{m.problem}</Problem>
          </div>
        )}
        <p className="tabular mt-3 text-small break-all text-faded">{m.path}</p>
      </div>
      <dl className="grid grid-cols-2 content-start gap-x-6 gap-y-3 sm:grid-cols-3">
        <Fact name="Used for" value={m.use} />
        <Fact name="Parameters" value={m.parameters && count(m.parameters)} number />
        <Fact name="Context" value={m.context_length && `${m.context_length} tokens`} number />
        <Fact name="Architecture" value={m.architecture} />
        <Fact name="Weights" value={m.weights && `${m.weights}, ${bytes(m.size)}`} number />
        <Fact name="Vectors" value={m.dimensions && `${m.dimensions} numbers`} number />
        <Fact name="Vocabulary" value={m.vocabulary && `${m.vocabulary} tokens`} number />
        <Fact name="Licence" value={m.license} />
        <Fact name="Temperature" value={m.defaults.temperature} number />
        <Fact name="Top-p" value={m.defaults.top_p} number />
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
  if (m.problem) return <span className="text-small text-vermilion">unusable</span>;
  if (m.loaded) return <span className="text-small text-moss">loaded</span>;
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
