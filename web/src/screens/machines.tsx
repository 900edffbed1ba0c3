import { useState } from "react";
import * as api from "../api";
import { Button, CopyButton, Empty, Field, Heading, Input, Part, Problem, Select, Skeleton } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { Table } from "../design/table";
import { useAct, useGates, useMachines } from "../queries";
import { ago, milliseconds } from "../words";
import { Names } from "./names";

/** The machines whose models the gate offers, the gates that share what they know, and the names under which models answer. */
export function MachinesScreen() {
  const { data, error } = useMachines();
  const [inviting, setInviting] = useState(false);
  return (
    <section>
      <Heading
        title="Machines and names"
        lead="Models of other machines are asked for by the machine’s name, a slash and their own; those of machines that have joined by their own name too, wherever they are. Which of them answers under a public name is decided here."
        action={<Button onClick={() => setInviting(true)}>Invite a machine</Button>}
      />
      {inviting && <Invite onClose={() => setInviting(false)} />}
      <Gates />
      {error && <Problem>{error.message}</Problem>}
      {!data && !error && <Skeleton lines={3} />}
      {data?.length === 0 && (
        <Empty>
          There is no machine yet. <code>runners</code> in the configuration names servers that speak the OpenAI-compatible protocol, each with its address and where its key is; machines that
          cannot be reached join by dialling this gate.
        </Empty>
      )}
      {data?.map((m) => <Machine key={m.name} machine={m} />)}
      <Names />
    </section>
  );
}

/** How far another clock is ahead of the gate's. */
const skew = (ms: number) => `${Math.abs(ms) < 50 ? "" : ms < 0 ? "−" : "+"}${Math.abs(ms / 1000).toFixed(1)} s`;

/** The gates that share what they know with this one, if any do. */
function Gates() {
  const { data } = useGates();
  if (!data?.length) return null;
  const state = (g: api.Gate) =>
    g.self ? <span className="text-faded">this one</span> : !g.there ? <span className="text-vermilion">gone {ago(g.heard)}</span> : g.unseen ? <span className="text-vermilion">does not hear this one</span> : <span className="text-moss">in touch</span>;
  return (
    <Part title="Gates" lead="They share keys, groups, limits, names, presets, sessions, stored responses and machines. Each has a ledger of its own, which the others can read.">
      <Table
        label="Gates"
        rows={data}
        id={(g) => g.instance}
        columns={[
          { title: "Gate", wide: "font-medium", cell: (g) => g.name },
          { title: "State", cell: state },
          { title: "Version", cell: (g) => g.program },
          { title: "In progress", number: true, cell: (g) => g.in_progress },
          { title: "Line", number: true, cell: (g) => milliseconds(g.line_ms) },
          { title: "Clock", number: true, cell: (g) => skew(g.skew_ms) },
          { title: "Not told yet", number: true, cell: (g) => g.pending },
          { title: "Base URL", wide: "break-all", cell: (g) => <span className="text-small text-faded">{g.base_url}</span> },
        ]}
      />
    </Part>
  );
}

const times = [
  { value: "15m", label: "15 minutes" },
  { value: "2h", label: "2 hours" },
  { value: "24h", label: "a day" },
];

/** Gives another machine leave to join, and shows the command for it, once. */
function Invite({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [valid, setValid] = useState("15m");
  const invite = useAct(api.inviteMachine, { changes: [], says: (i) => `“${i.name}” can join once.` });
  const given = invite.data;
  return (
    <Dialog
      open
      firm={!!given}
      wide
      onClose={onClose}
      title={given ? `Run this on “${given.name}”` : "Invite a machine"}
      description={
        given
          ? `It works once, until ${new Date(given.expires).toLocaleTimeString()}. The connection is made from there; no port is opened.`
          : "Another machine works for this gate by a connection that it makes itself, so it needs no address and opens no port. Its operator decides which models it offers."
      }
    >
      {given ? (
        <div className="grid gap-4">
          <pre className="tabular max-h-48 overflow-auto border border-rule p-3 text-small break-all whitespace-pre-wrap" data-testid="join command">
            {given.command}
          </pre>
          <div className="flex justify-end gap-3">
            <CopyButton text={given.command} what="the command" />
            <Button weight="primary" onClick={onClose}>
              Done
            </Button>
          </div>
        </div>
      ) : (
        <form
          className="grid gap-4"
          onSubmit={(e) => {
            e.preventDefault();
            if (!invite.isPending) invite.mutate({ name: name.trim(), valid });
          }}
        >
          {invite.error && <Problem>{invite.error.message}</Problem>}
          <Field label="Name" id="machine-name" help="What stands before the slash in the names of its models.">
            <Input autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder="attic" />
          </Field>
          <Field label="It can join for">
            <Select label="It can join for" value={valid} onChange={setValid} options={times} />
          </Field>
          <div className="flex justify-end gap-3">
            <Button type="button" onClick={onClose}>
              Cancel
            </Button>
            <Button type="submit" weight="primary" busy={invite.isPending} disabled={!name.trim()}>
              Make the command
            </Button>
          </div>
        </form>
      )}
    </Dialog>
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
  const revoke = useAct(api.revokeMachine, { changes: ["machines"], says: (_, name) => `${name} is revoked.` });
  const [all, setAll] = useState(false);
  const [revoking, setRevoking] = useState(false);
  const joined = m.joined;
  const problem = look.error ?? probe.error;
  const shown = all ? m.models : m.models.slice(0, 8);
  const faults = Object.entries(m.faults).map(([what, n]) => `${what} ${n} times`);
  return (
    <article className="border-t border-rule py-6" data-testid={`machine ${m.name}`}>
      <div className="flex flex-wrap items-start justify-between gap-x-8 gap-y-3">
        <div className="min-w-0">
          <h2 className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-serif text-large font-medium">{m.name}</span>
            {joined && !m.healthy ? (
              <span className="text-small text-brass">away</span>
            ) : !m.healthy ? (
              <span className="text-small text-vermilion">circuit open</span>
            ) : m.looked ? (
              <span className="text-small text-moss">healthy</span>
            ) : (
              <span className="text-small text-brass">not seen yet</span>
            )}
          </h2>
          <p className="tabular text-small break-all text-faded">{joined ? `joined ${ago(joined.since)}, by a connection of its own` : m.url}</p>
        </div>
        <div className="flex gap-3">
          {joined && (
            <Button aria-label={`Revoke ${m.name}`} onClick={() => setRevoking(true)}>
              Revoke
            </Button>
          )}
          {!joined && (
            <Button busy={look.isPending} aria-label={`Check now: ${m.name}`} onClick={() => look.mutate(m.name)}>
              Check now
            </Button>
          )}
          {m.mode !== "form" && !joined && (
            <Button busy={probe.isPending} aria-label={`Probe ${m.name}`} onClick={() => probe.mutate(m.name)}>
              Probe
            </Button>
          )}
        </div>
      </div>
      {(problem || m.why) && (
        <div className="mt-3">
          <Problem>{problem ? problem.message : joined ? `It takes no work now: ${m.why}` : `It ${m.why}`}</Problem>
        </div>
      )}
      {revoking && (
        <Confirm
          title={`Revoke ${m.name}?`}
          description="Its answers in progress end, and it is connected no more. It can come in again only by another invitation."
          act="Revoke"
          onAct={() => revoke.mutateAsync(m.name)}
          onClose={() => setRevoking(false)}
        />
      )}
      <dl className="mt-4 flex flex-wrap gap-x-10 gap-y-3">
        <Fact name="In progress" value={`${m.open}`} />
        <Fact name="TTFT" value={m.first_token_ms ? milliseconds(m.first_token_ms) : "not yet"} />
        {joined && (
          <>
            <Fact name="For all gates" value={`${joined.in_progress} in progress, ${joined.at_once || "any number"} at once`} />
            <Fact name="Line" value={milliseconds(joined.line_ms)} />
            <Fact name="Clock" value={skew(joined.skew_ms)} />
            <Fact name="Version" value={joined.program ?? "not known"} />
            {joined.reconnects > 0 && <Fact name="Reconnects" value={`${joined.reconnects} in 10 minutes`} />}
          </>
        )}
        {!joined && <Fact name="Seen" value={m.looked ? `${ago(m.looked)}, in ${milliseconds(m.look_ms)}` : "never"} />}
        {!joined && (
          <>
            <Fact name="Styles" value={styles.filter(([key]) => m.abilities[key] === "yes").map(([, says]) => says).join(", ") || "not known"} />
            <Fact name="Prompts" value={{ conversation: "rendered by the server", prompt: "rendered here", form: "in its own form" }[m.mode]} />
          </>
        )}
        {m.pass.length > 0 && <Fact name="Passed on" value={m.pass.join(", ")} />}
        {faults.length > 0 && <Fact name="Was wrong" value={faults.join(", ")} />}
      </dl>
      {joined && joined.models.length > 0 && (
        <div className="mt-4">
          <Table
            label={`Models of ${m.name}`}
            rows={joined.models}
            id={(one) => one.name}
            columns={[
              { title: "Model", wide: "font-medium break-all", cell: (one) => `${m.name}/${one.name}` },
              { title: "Context", number: true, cell: (one) => m.models.find((there) => there.name === one.name)?.context_length || "" },
              { title: "Loaded", cell: (one) => (one.loaded ? "yes" : <span className="text-faded">no</span>) },
              { title: "Requests", number: true, cell: (one) => one.requests },
              { title: "Prompt tokens/s", number: true, cell: (one) => (one.prompt_tokens_per_second ? Math.round(one.prompt_tokens_per_second) : "") },
              { title: "Output tokens/s", number: true, cell: (one) => (one.output_tokens_per_second ? Math.round(one.output_tokens_per_second) : "") },
              { title: "Cannot", wide: "min-w-40", cell: (one) => able(m.models.find((there) => there.name === one.name)?.abilities ?? m.abilities, "no").join(", ") },
            ]}
          />
        </div>
      )}
      {!joined && m.models.length > 0 && (
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
