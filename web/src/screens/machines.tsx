import { useState } from "react";
import * as api from "../api";
import { Button, Empty, Heading, Problem, Skeleton } from "../design/controls";
import { Table } from "../design/table";
import { useAct, useMachines } from "../queries";
import { ago, milliseconds } from "../words";
import { Names } from "./names";

/** The other servers whose models the gate offers, and the names under which models answer, wherever they run. */
export function MachinesScreen() {
  const { data, error } = useMachines();
  return (
    <section>
      <Heading title="Machines and names" lead="Models of other servers are asked for by the machine’s name, a slash and their own. Which of them answers under a public name is decided here." />
      {error && <Problem>{error.message}</Problem>}
      {!data && !error && <Skeleton lines={3} />}
      {data?.length === 0 && (
        <Empty>
          No machine is set up. <code>runners</code> in the configuration names servers that speak the OpenAI-compatible protocol, each with its address and where its key is.
        </Empty>
      )}
      {data?.map((m) => <Machine key={m.name} machine={m} />)}
      <Names />
    </section>
  );
}

const features: [keyof api.Machine["abilities"], string][] = [
  ["streams", "streams"],
  ["streamed_usage", "usage in streams"],
  ["tools", "tools"],
  ["formats", "formats"],
  ["logprobs", "log-probabilities"],
  ["images", "pictures"],
  ["token_prompts", "prompts as tokens"],
  ["raw_formats", "completion formats"],
];

const styles: [keyof api.Machine["abilities"], string][] = [
  ["chat", "chat"],
  ["raw", "completion"],
  ["responses", "response"],
  ["embeddings", "embedding"],
];

const able = (a: api.Machine["abilities"], is: string) => features.filter(([key]) => a[key] === is).map(([, says]) => says);

function Machine({ machine: m }: { machine: api.Machine }) {
  const look = useAct(api.lookAtMachine, { changes: ["machines"], says: (done) => `${done.name} is healthy and has ${done.models.length} models.` });
  const probe = useAct(api.probeMachine, { changes: ["machines"], says: (done) => `${done.name} was asked what its models can do.` });
  const [all, setAll] = useState(false);
  const problem = look.error ?? probe.error;
  const shown = all ? m.models : m.models.slice(0, 8);
  const faults = Object.entries(m.faults).map(([what, n]) => `${what} ${n} times`);
  return (
    <article className="border-t border-rule py-6" data-testid={`machine ${m.name}`}>
      <div className="flex flex-wrap items-start justify-between gap-x-8 gap-y-3">
        <div className="min-w-0">
          <h2 className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-serif text-large font-medium">{m.name}</span>
            {!m.healthy ? (
              <span className="text-small text-vermilion">circuit open</span>
            ) : m.looked ? (
              <span className="text-small text-moss">healthy</span>
            ) : (
              <span className="text-small text-brass">not seen yet</span>
            )}
          </h2>
          <p className="tabular text-small break-all text-faded">{m.url}</p>
        </div>
        <div className="flex gap-3">
          <Button busy={look.isPending} aria-label={`Check now: ${m.name}`} onClick={() => look.mutate(m.name)}>
            Check now
          </Button>
          {m.mode !== "form" && (
            <Button busy={probe.isPending} aria-label={`Probe ${m.name}`} onClick={() => probe.mutate(m.name)}>
              Probe
            </Button>
          )}
        </div>
      </div>
      {(problem || m.why) && (
        <div className="mt-3">
          <Problem>{problem ? problem.message : `It ${m.why}`}</Problem>
        </div>
      )}
      <dl className="mt-4 flex flex-wrap gap-x-10 gap-y-3">
        <Fact name="In progress" value={`${m.open}`} />
        <Fact name="TTFT" value={m.first_token_ms ? milliseconds(m.first_token_ms) : "not yet"} />
        <Fact name="Seen" value={m.looked ? `${ago(m.looked)}, in ${milliseconds(m.look_ms)}` : "never"} />
        <Fact name="Styles" value={styles.filter(([key]) => m.abilities[key] === "yes").map(([, says]) => says).join(", ") || "not known"} />
        <Fact name="Prompts" value={{ conversation: "rendered by the server", prompt: "rendered here", form: "in its own form" }[m.mode]} />
        {m.pass.length > 0 && <Fact name="Passed on" value={m.pass.join(", ")} />}
        {faults.length > 0 && <Fact name="Was wrong" value={faults.join(", ")} />}
      </dl>
      {m.models.length > 0 && (
        <div className="mt-4">
          <Table
            label={`Models of ${m.name}`}
            rows={shown}
            id={(one) => one.name}
            columns={[
              { title: "Model", wide: "font-medium break-all", cell: (one) => `${m.name}/${one.name}` },
              { title: "Context", number: true, cell: (one) => one.context_length || "" },
              { title: "Can", wide: "min-w-56", cell: (one) => (one.failing ? <span className="text-vermilion">circuit open: it failed several times in a row</span> : one.probed ? able(one.abilities, "yes").join(", ") || "nothing that was asked" : <span className="text-faded">not probed yet</span>) },
              { title: "Cannot", wide: "min-w-40", cell: (one) => (one.probed ? able(one.abilities, "no").join(", ") : "") },
            ]}
          />
          {m.models.length > shown.length && (
            <Button weight="quiet" onClick={() => setAll(true)}>
              Show all {m.models.length}
            </Button>
          )}
        </div>
      )}
    </article>
  );
}

function Fact({ name, value }: { name: string; value?: string }) {
  return (
    <div>
      <dt className="text-small text-faded">{name}</dt>
      <dd className="tabular">{value}</dd>
    </div>
  );
}
