import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Empty, Field, Heading, Part, Problem, Skeleton, TextArea } from "../design/controls";
import { Dialog } from "../design/dialog";
import { Table } from "../design/table";
import { useAct, useApprovals, useTools } from "../queries";
import { ago, milliseconds } from "../words";

/** The tools that the gate runs for models, and the calls that wait for somebody to approve them. */
export function ToolsScreen() {
  const { data, error } = useTools();
  const check = useAct(() => api.checkTools(), { changes: ["tools"], says: (done) => `${done.servers.length} tool servers were asked.` });
  return (
    <section>
      <div className="flex flex-wrap items-start justify-between gap-4">
        <Heading title="Tools" lead="What the gate runs for models. A key, or a preset, says which of them a request may use." />
        {!!data?.servers.length && (
          <Button busy={check.isPending} onClick={() => check.mutate(undefined)}>
            Check now
          </Button>
        )}
      </div>
      {(error ?? check.error) && <Problem>{(error ?? check.error)?.message}</Problem>}
      <Approvals />
      {!data && !error && <Skeleton lines={3} />}
      {data?.servers.length === 0 && (
        <Empty>
          No tool server is set up. <code>tools</code> in the configuration names servers that speak the Model Context Protocol, each by a command or an address, and plain HTTP endpoints.
        </Empty>
      )}
      {data?.servers.map((s) => <Server key={s.name} server={s} tools={data.tools.filter((t) => t.server === s.name)} />)}
    </section>
  );
}

const states = { running: ["running", "text-moss"], stopped: ["stopped until it is needed", "text-faded"], failed: ["failed", "text-vermilion"] } as const;
const kinds: Record<string, string> = { stdio: "a program on this computer", http: "a server over HTTP", web: "an HTTP endpoint" };

function Server({ server: s, tools }: { server: api.ToolServer; tools: api.Tool[] }) {
  const [trying, setTrying] = useState<api.Tool>();
  const [state, look] = states[s.state];
  return (
    <article className="border-t border-rule py-6" data-testid={`tools ${s.name}`}>
      <h2 className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-serif text-large font-medium">{s.name}</span>
        <span className={`text-small ${look}`}>{state}</span>
        <span className="text-small text-faded">
          {kinds[s.kind] ?? ""}
          {s.since && `, since ${ago(s.since)}`}
        </span>
      </h2>
      {s.error && (
        <div className="mt-3">
          <Problem>{s.error}</Problem>
        </div>
      )}
      {s.tail && (
        <details className="mt-2 text-small">
          <summary className="cursor-pointer text-faded">What it wrote last</summary>
          <pre className="mt-1 max-h-40 overflow-auto font-mono" tabIndex={0}>
            {s.tail.join("\n")}
          </pre>
        </details>
      )}
      {s.skipped?.map((line) => (
        <p key={line} className="mt-2 text-small text-brass">
          Left out: {line}
        </p>
      ))}
      {tools.length > 0 && (
        <div className="mt-4">
          <Table
            label={`Tools of ${s.name}`}
            rows={tools}
            id={(t) => t.name}
            columns={[
              { title: "Tool", wide: "font-medium break-all", cell: (t) => t.name },
              { title: "Description", wide: "min-w-56", cell: (t) => t.description },
              { title: "Changes something", cell: (t) => (t.read_only ? <span className="text-faded">no</span> : "perhaps") },
              { title: "Calls", number: true, cell: (t) => t.calls || "" },
              { title: "Failed", number: true, cell: (t) => (t.failed ? <span className="text-vermilion">{t.failed}</span> : "") },
              { title: "Mean", number: true, cell: (t) => (t.calls ? milliseconds(t.mean_ms) : "") },
              {
                title: "",
                cell: (t) => (
                  <Button weight="quiet" aria-label={`Try ${t.name}`} onClick={() => setTrying(t)}>
                    Try
                  </Button>
                ),
              },
            ]}
          />
        </div>
      )}
      {trying && <TryDialog tool={trying} onClose={() => setTrying(undefined)} />}
    </article>
  );
}

/** A first draft of arguments: every property that has to be there, empty. */
function draftOf(schema: Record<string, unknown>) {
  const properties = (schema.properties ?? {}) as Record<string, { type?: string }>;
  const needed = (schema.required as string[] | undefined) ?? Object.keys(properties);
  const empty = (type?: string) => ({ integer: 0, number: 0, boolean: false, array: [], object: {} })[type ?? ""] ?? "";
  return JSON.stringify(Object.fromEntries(needed.map((name) => [name, empty(properties[name]?.type)])), null, 2);
}

function TryDialog({ tool, onClose }: { tool: api.Tool; onClose: () => void }) {
  const [draft, setDraft] = useState(() => draftOf(tool.schema));
  const [malformed, setMalformed] = useState("");
  const attempt = useAct(api.tryTool, { changes: ["tools"] });
  function submit(e: FormEvent) {
    e.preventDefault();
    try {
      const given = JSON.parse(draft) as object;
      setMalformed("");
      if (!attempt.isPending) attempt.mutate({ server: tool.server, name: tool.name, arguments: given });
    } catch (problem) {
      setMalformed(`These arguments are no JSON: ${(problem as Error).message}`);
    }
  }
  return (
    <Dialog open wide onClose={onClose} title={`Try ${tool.server}/${tool.name}`} description={`${tool.description} ${tool.read_only ? "" : "It may change something."}`}>
      <form onSubmit={submit} className="grid gap-4">
        <Field label="Arguments" id="tool-arguments">
          <TextArea autoFocus spellCheck={false} value={draft} onChange={(e) => setDraft(e.target.value)} className="tabular" rows={6} />
        </Field>
        <details className="text-small">
          <summary className="cursor-pointer text-faded">Their schema</summary>
          <pre className="mt-1 max-h-48 overflow-auto font-mono" tabIndex={0}>
            {JSON.stringify(tool.schema, null, 2)}
          </pre>
        </details>
        {(malformed || attempt.error) && <Problem>{malformed || attempt.error?.message}</Problem>}
        {attempt.data && (
          <div className="grid gap-1 border-t border-rule pt-3" data-testid="tool-output">
            <pre className="max-h-60 overflow-auto font-mono text-small whitespace-pre-wrap" tabIndex={0}>
              {attempt.data.output}
            </pre>
            <p className={`text-small ${attempt.data.error ? "text-vermilion" : "text-faded"}`}>
              {attempt.data.error ? `Failed (${attempt.data.error.type.replaceAll("_", " ")})` : `${attempt.data.bytes} bytes`}, in {milliseconds(attempt.data.ms)}
            </p>
          </div>
        )}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Close</Button>
          <Button type="submit" weight="primary" busy={attempt.isPending}>
            Call it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function Approvals() {
  const { data } = useApprovals();
  const decide = useAct(api.decide, { changes: ["approvals"], says: (done) => (done.approve ? "The call is approved." : "The call is refused.") });
  if (!data?.length) return null;
  return (
    <Part title="Waiting for an approval" lead="Calls of responses in the background. What nobody approves lapses.">
      {decide.error && <Problem>{decide.error.message}</Problem>}
      {data.map((a) => (
        <div key={a.id} className="grid items-center gap-x-6 gap-y-2 border-t border-rule border-l-2 border-l-vermilion py-3 pl-4 md:grid-cols-[minmax(0,1fr)_auto]" data-testid="approval">
          <span className="min-w-0">
            <code className="font-mono text-small break-all">
              {a.server}/{a.name} {a.arguments}
            </code>
            <span className="block text-small text-faded">
              asked with “{a.label}” {ago(a.since)}
            </span>
          </span>
          <span className="flex gap-3 md:justify-end">
            <Button weight="primary" busy={decide.isPending} aria-label={`Approve ${a.name}`} onClick={() => decide.mutate({ id: a.id, approve: true })}>
              Approve
            </Button>
            <Button aria-label={`Refuse ${a.name}`} onClick={() => decide.mutate({ id: a.id, approve: false })}>
              Refuse
            </Button>
          </span>
        </div>
      ))}
    </Part>
  );
}
