import { useState, type FormEvent } from "react";
import { Link, useParams } from "react-router";
import * as api from "../api";
import { Button, Field, Heading, NumberInput, Problem, Select, Skeleton, TextArea } from "../design/controls";
import { targetOptions, useAct, useExchange, useTargets } from "../queries";
import { milliseconds, time } from "../words";

/** A recorded exchange and the same one asked again with something changed, side by side. */
export function ReplayScreen() {
  const { id = "" } = useParams();
  const exchange = useExchange(id);
  const [change, setChange] = useState<api.Change>({});
  const replay = useAct(api.replay, { changes: ["exchanges"] });
  const e = exchange.data;
  function submit(event: FormEvent) {
    event.preventDefault();
    if (!replay.isPending) replay.mutate({ id, change });
  }
  return (
    <section>
      <Heading
        title="Replay"
        lead={e ? `What was asked at ${time(e.begun)} of ${e.preset || e.answered || e.model}, asked again with what you change here.` : "A recorded exchange, asked again."}
        action={
          <Link to={`/traffic/exchange/${encodeURIComponent(id)}`} className="inline-flex h-9 items-center rounded-control border border-rule-strong px-3.5 text-small font-medium hover:border-ink">
            The exchange
          </Link>
        }
      />
      {exchange.error && <Problem>{exchange.error.message}</Problem>}
      {!e && !exchange.error && <Skeleton />}
      {e && !e.content && <Problem>Its content was not recorded, so it cannot be replayed. Recording is set in the configuration, or for a key.</Problem>}
      {e?.content && <Form change={change} onChange={setChange} onSubmit={submit} busy={replay.isPending} />}
      {replay.error && <Problem>{replay.error.message}</Problem>}
      {replay.data && <Result r={replay.data} />}
    </section>
  );
}

function Form({ change, onChange, onSubmit, busy }: { change: api.Change; onChange: (c: api.Change) => void; onSubmit: (e: FormEvent) => void; busy: boolean }) {
  const options = [{ value: "", label: "as it was" }, ...targetOptions(useTargets())];
  return (
    <form onSubmit={onSubmit} className="grid gap-4 border-t border-rule pt-5">
      <div className="flex flex-wrap items-end gap-4">
        <div className="w-60">
          <Field label="Model, preset or name" id="replay-model">
            <Select value={change.model ?? ""} onChange={(model) => onChange({ ...change, model: model || undefined })} options={options} />
          </Field>
        </div>
        <div className="w-36">
          <Field label="Style" id="replay-style">
            <Select
              value={change.style ?? ""}
              onChange={(style) => onChange({ ...change, style: (style || undefined) as api.Change["style"] })}
              options={[{ value: "", label: "as it was" }, { value: "chat" }, { value: "generate" }, { value: "completion" }]}
            />
          </Field>
        </div>
        <div className="w-32">
          <Field label="Temperature" id="replay-temperature">
            <NumberInput min={0} max={2} step={0.1} placeholder="as it was" value={change.temperature} onChange={(temperature) => onChange({ ...change, temperature })} />
          </Field>
        </div>
        <div className="w-32">
          <Field label="Seed" id="replay-seed">
            <NumberInput step={1} placeholder="as it was" value={change.seed} onChange={(seed) => onChange({ ...change, seed })} />
          </Field>
        </div>
        <Button type="submit" weight="primary" busy={busy}>
          {busy ? "Asking…" : "Replay"}
        </Button>
      </div>
      <div className="grid gap-4 md:grid-cols-2">
        <Field label="Instructions in the place of the recorded ones" id="replay-instructions">
          <TextArea placeholder="as they were" value={change.instructions ?? ""} onChange={(e) => onChange({ ...change, instructions: e.target.value || undefined })} />
        </Field>
        <Field label="Chat template in the place of the model’s" id="replay-template">
          <TextArea className="font-mono" placeholder="the model’s own" value={change.template ?? ""} onChange={(e) => onChange({ ...change, template: e.target.value || undefined })} />
        </Field>
      </div>
    </form>
  );
}

function Result({ r }: { r: api.Replay }) {
  const facts: [string, (s: api.Replay["recorded"]) => string][] = [
    ["Served by", (s) => (s.preset ? `${s.preset} (${s.model})` : s.model)],
    ["Prompt", (s) => `${s.prompt_tokens} tokens, ${s.cached_tokens} known`],
    ["Answer", (s) => `${s.completion_tokens} tokens${s.finish_reason ? `, ${s.finish_reason}` : ""}`],
    ["TTFT", (s) => milliseconds(s.first_token_ms)],
    ["Duration", (s) => milliseconds(s.took_ms)],
    ["Log-probability of the recorded answer", (s) => (s.logprob === undefined ? "not known" : s.logprob > -0.005 ? "0.00" : s.logprob.toFixed(2))],
  ];
  return (
    <div className="mt-6 grid gap-6" data-testid="replay">
      <p className="border-t border-rule pt-5 font-serif text-large font-medium" role="status">
        {r.same ? "The answers are the same, word by word." : `The answers have ${Math.round(r.alike * 100)} % of their words in common.`}
      </p>
      <div className="grid gap-6 md:grid-cols-2">
        {(["recorded", "replayed"] as const).map((side) => (
          <section key={side} aria-label={side === "recorded" ? "Recorded" : "Replayed"}>
            <h2 className="pb-2 text-small font-medium">{side === "recorded" ? "Recorded" : "Replayed"}</h2>
            <p className="border-l-2 border-rule pl-3 font-serif text-large whitespace-pre-wrap">
              {r.difference.map((run, i) => {
                if (run.kind === "both") return <span key={i}>{run.text}</span>;
                if ((run.kind === "left") !== (side === "recorded")) return null;
                return side === "recorded" ? (
                  <del key={i} className="bg-wash text-vermilion no-underline">
                    {run.text}
                  </del>
                ) : (
                  <ins key={i} className="text-moss underline decoration-1 underline-offset-4">
                    {run.text}
                  </ins>
                );
              })}
            </p>
            <dl className="mt-4 grid grid-cols-[minmax(8rem,auto)_1fr] gap-x-4 gap-y-1.5">
              {facts.map(([name, says]) => (
                <div key={name} className="contents">
                  <dt className="text-small text-faded">{name}</dt>
                  <dd className="tabular">{says(r[side])}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
      {r.parting && (
        <section aria-label="First difference">
          <h2 className="text-small font-medium">
            First difference at token {r.parting.place + 1}
            <span className="font-normal text-faded">{r.parting.before ? `, behind “${r.parting.before}”` : ", the first"}</span>
          </h2>
          <div className="mt-2 grid gap-6 md:grid-cols-2">
            {(["recorded", "replayed"] as const).map((side) => (
              <Choices key={side} list={r.parting?.[side] ?? []} />
            ))}
          </div>
        </section>
      )}
      {r.notes.map((n, i) => (
        <p key={i} className="text-small text-faded">
          {n}
        </p>
      ))}
    </div>
  );
}

/** What was said at a place, and what else might have been. */
function Choices({ list }: { list: { text: string; logprob: number }[] }) {
  if (list.length === 0) return <p className="text-small text-faded">The answer ends here.</p>;
  return (
    <ul className="grid gap-1">
      {list.map((t, i) => (
        <li key={i} className="grid grid-cols-[8rem_1fr_4.5rem] items-center gap-3">
          <code className={`truncate ${i === 0 ? "font-medium" : "text-faded"}`}>{JSON.stringify(t.text)}</code>
          <span aria-hidden className="h-1.5 bg-rule/60">
            <span className={`block h-full ${i === 0 ? "bg-ink" : "bg-rule-strong"}`} style={{ width: `${100 * Math.exp(t.logprob)}%` }} />
          </span>
          <span className="tabular text-right text-small">{(100 * Math.exp(t.logprob)).toFixed(1)} %</span>
        </li>
      ))}
    </ul>
  );
}
