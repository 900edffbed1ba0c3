import { lazy, Suspense, useRef } from "react";
import { Link } from "react-router";
import * as api from "../api";
import type { Point } from "../design/chart";
import { CopyButton, Empty, Heading, Part, Problem, Skeleton } from "../design/controls";
import { Table } from "../design/table";
import { useExchanges } from "../exchanges";
import { useKeys, useModels, useNow, useStatus } from "../queries";
import { bytes, milliseconds, time } from "../words";
import { Ended } from "./traffic";

/** Charts are large, and only this screen has some. */
const Chart = lazy(() => import("../design/chart"));

const all: api.Filter = {};

/** Who asks here is no application. */
const ours = (e: { key: string; label: string }) => e.key === "console" || e.label === "owner";

export function NowScreen() {
  const { list, problem } = useExchanges(all, 5);
  const now = useNow();
  const share = useShare(now.data);
  const activity = now.data?.activity;
  const begun = activity?.uses.some((u) => !ours(u)) || list?.some((e) => !ours(e));
  const points = (value: (p: api.Now["activity"]["points"][number]) => number | null): Point[] => activity?.points.map((p) => ({ at: Date.parse(p.at), value: value(p) })) ?? [];
  return (
    <section>
      <Heading title="Now" lead="What runs, for whom, and how fast." />
      {problem && <Problem>{problem}</Problem>}
      {list && now.data && !begun && <FirstSteps />}
      {!list && !problem && <Skeleton lines={5} />}
      {now.data && <Figures now={now.data} share={share} />}
      {activity && (
        <div className="mt-8 grid gap-10 border-t border-rule pt-6 md:grid-cols-2">
          <Suspense fallback={<Skeleton />}>
            <Chart title="Output tokens/s" unit="tokens/s" points={points((p) => p.tokens_per_second)} says="over the last 15 minutes" />
            <Chart title="Time to first token" unit="ms" points={points((p) => p.first_token_ms)} says="median, in milliseconds" />
          </Suspense>
        </div>
      )}
      {now.data && <Loaded now={now.data} />}
      {activity && activity.uses.length > 0 && <Users uses={activity.uses} />}
      {list && list.length > 0 && <Last list={list} />}
    </section>
  );
}

/** Which share of the processors the gate takes, from the last two readings. */
function useShare(now?: api.Now) {
  const before = useRef<api.Now>(undefined);
  const share = useRef<number>(undefined);
  if (now && before.current?.at !== now.at) {
    if (before.current) {
      const passed = Date.parse(now.at) - Date.parse(before.current.at);
      if (passed > 500) share.current = Math.max(0, now.busy_ms - before.current.busy_ms) / (passed * now.processors);
    }
    before.current = now;
  }
  return share.current;
}

function Figures({ now, share }: { now: api.Now; share?: number }) {
  const { in_progress: open, points } = now.activity;
  const minute = points.slice(-4);
  const rate = minute.reduce((n, p) => n + p.tokens_per_second, 0) / Math.max(1, minute.length);
  const figures: [string, string, string][] = [
    ["In progress", String(open), open === 1 ? "exchange" : "exchanges"],
    ["Output", rate.toFixed(rate < 10 ? 1 : 0), "tokens/s, over a minute"],
    ["Processors", share === undefined ? "…" : `${Math.round(100 * share)} %`, `of ${now.processors}`],
    ["Memory", bytes(now.resident), `of ${bytes(now.memory)}; ${bytes(now.available)} are free`],
  ];
  return (
    <dl className="grid grid-cols-2 gap-x-10 gap-y-5 border-t border-rule pt-5 md:grid-cols-4">
      {figures.map(([name, value, says]) => (
        <div key={name}>
          <dt className="text-small text-faded">{name}</dt>
          <dd>
            <span className="tabular text-title leading-tight">{value}</span>
            <span className="block text-small text-faded">{says}</span>
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Loaded({ now }: { now: api.Now }) {
  return (
    <Part title="Loaded models">
      {now.models.length === 0 ? (
        <Empty>None is loaded. A model is loaded by the first request for it.</Empty>
      ) : (
        <Table
          label="Loaded models"
          rows={now.models}
          id={(m) => m.id}
          columns={[
            { title: "Model", wide: "font-medium", cell: (m) => m.id },
            { title: "Requests", number: true, cell: (m) => m.requests },
            { title: "Weights", number: true, cell: (m) => bytes(m.bytes) },
            { title: "KV cache limit", number: true, cell: (m) => bytes(m.context) },
            { title: "In use", number: true, cell: (m) => bytes(m.context_busy) },
            { title: "Cached prefixes", number: true, cell: (m) => bytes(m.context_kept) },
          ]}
        />
      )}
    </Part>
  );
}

function Users({ uses }: { uses: api.Now["activity"]["uses"] }) {
  return (
    <Part title="By key and model" lead="Over the last 15 minutes.">
      <Table
        label="By key and model"
        rows={uses}
        id={(u) => `${u.key} ${u.label} ${u.model}`}
        columns={[
          { title: "Key", wide: "font-medium", cell: (u) => u.label },
          { title: "Model", cell: (u) => u.model || "none" },
          { title: "Requests", number: true, cell: (u) => u.requests },
          { title: "Failed", number: true, cell: (u) => u.failed || "" },
          { title: "Output tokens", number: true, cell: (u) => u.completion_tokens || "" },
          { title: "Output tokens/s", number: true, cell: (u) => (u.tokens_per_second > 0 ? u.tokens_per_second.toFixed(0) : "") },
          { title: "TTFT", number: true, cell: (u) => (u.first_token_ms != null ? milliseconds(u.first_token_ms) : "") },
        ]}
      />
    </Part>
  );
}

function Last({ list }: { list: api.Exchange[] }) {
  return (
    <Part
      title="The last exchanges"
      action={
        <Link to="/traffic" className="text-small font-medium underline decoration-rule-strong underline-offset-4 hover:decoration-ink">
          All of them
        </Link>
      }
    >
      <Table
        label="The last exchanges"
        rows={list.slice(0, 5)}
        id={(e) => e.id}
        columns={[
          { title: "Time", wide: "tabular whitespace-nowrap", cell: (e) => time(e.begun) },
          { title: "Key", wide: "font-medium", cell: (e) => e.label },
          { title: "Model", cell: (e) => e.model },
          { title: "Tokens", number: true, cell: (e) => (e.prompt_tokens ? `${e.prompt_tokens} + ${e.completion_tokens}` : "") },
          { title: "Duration", number: true, cell: (e) => (e.took_ms ? milliseconds(e.took_ms) : "") },
          { title: "Ended", wide: "whitespace-nowrap", cell: (e) => <Ended e={e} /> },
        ]}
      />
    </Part>
  );
}

/** What is left to do until an application calls for the first time. */
function FirstSteps() {
  const status = useStatus();
  const models = useModels();
  const keys = useKeys();
  const usable = models.data?.models.filter((m) => !m.problem && m.use === "chat") ?? [];
  const key = keys.data?.some((k) => !k.owner && !k.revoked);
  const base = status.data?.base_url ?? "";
  const call = `curl ${base}/chat/completions -H "Authorization: Bearer $KINDRED_KEY" -H "Content-Type: application/json" -d '{"model": "${usable[0]?.id ?? "MODEL"}", "messages": [{"role": "user", "content": "Hello"}]}'`;
  const steps: [boolean, string, React.ReactNode][] = [
    [usable.length > 0, "A model", usable.length > 0 ? `${usable[0]?.id} is installed.` : <Link to="/models" className="underline underline-offset-4">Add one</Link>],
    [!!key, "A key for the application", key ? "One is issued." : <Link to="/keys" className="underline underline-offset-4">Issue one</Link>],
    [false, "The base URL", <span key="b" className="flex flex-wrap items-center gap-3"><code className="tabular">{base}</code><CopyButton text={base} what="the base URL for the application" /></span>],
    [false, "The first call", <span key="c" className="flex flex-wrap items-start gap-3"><code className="tabular min-w-0 grow basis-96 break-all">{call}</code><CopyButton text={call} what="the call" /></span>],
  ];
  return (
    <div className="mb-8 border-l-2 border-vermilion bg-leaf px-5 py-4">
      <h2 className="font-serif text-large font-medium">First steps</h2>
      <ol className="mt-2 grid gap-2.5">
        {steps.map(([done, name, says], i) => (
          <li key={name} className="grid gap-x-4 sm:grid-cols-[1.5rem_12rem_1fr]">
            <span className={`tabular ${done ? "text-moss" : "text-faded"}`}>{done ? <span aria-label="done">✓</span> : i + 1}</span>
            <span className="font-medium">{name}</span>
            <span>{says}</span>
          </li>
        ))}
      </ol>
      <p className="mt-3 text-small text-faded">This goes when an application has called for the first time.</p>
    </div>
  );
}
