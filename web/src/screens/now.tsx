import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
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

const all: api.Filter = { key: "", model: "", job: "", bad: false };

/** How far back is looked, and how much of it is one point of a chart, in milliseconds. */
const back = 15 * 60_000;
const step = 15_000;

/** Who asks here is no application. */
const ours = (e: api.Exchange) => e.key === "console" || e.label === "owner";

export function NowScreen() {
  const { list, problem } = useExchanges(all, 1000);
  const now = useNow();
  const share = useShare(now.data);
  const clock = useClock();
  const recent = useMemo(() => list?.filter((e) => Date.parse(e.begun) > clock - back) ?? [], [list, clock]);
  const begun = list?.some((e) => !ours(e));
  return (
    <section>
      <Heading title="Now" lead="What runs, for whom, and how fast." />
      {problem && <Problem>{problem}</Problem>}
      {list && !begun && <FirstSteps />}
      {!list && !problem && <Skeleton lines={5} />}
      {now.data && <Figures now={now.data} share={share} recent={recent} clock={clock} />}
      {list && (
        <div className="mt-8 grid gap-10 border-t border-rule pt-6 md:grid-cols-2">
          <Suspense fallback={<Skeleton />}>
            <Chart title="Tokens a second" unit="tokens a second" points={rates(recent, clock)} says="written, over the last 15 minutes" />
            <Chart title="Time to first token" unit="ms" points={firsts(recent, clock)} says="median wait, in milliseconds" />
          </Suspense>
        </div>
      )}
      {now.data && <Loaded now={now.data} />}
      {recent.length > 0 && <Users recent={recent} />}
      {list && list.length > 0 && <Last list={list} />}
    </section>
  );
}

/** The time, every five seconds. */
function useClock() {
  const [clock, setClock] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setClock(Date.now()), 5000);
    return () => window.clearInterval(timer);
  }, []);
  return clock;
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

/** Where an exchange wrote its answer, in time. */
function writing(e: api.Exchange) {
  const begun = Date.parse(e.begun);
  return { from: begun + e.first_token_ms, to: begun + e.took_ms };
}

/** Tokens written a second, for each step of the time that is looked at. */
function rates(list: api.Exchange[], clock: number): Point[] {
  const first = Math.floor((clock - back) / step);
  const points = Array.from({ length: back / step + 1 }, (_, i) => ({ at: (first + i) * step, value: 0 }));
  for (const e of list) {
    if (!e.completion_tokens || e.state === "open") continue;
    const { from, to } = writing(e);
    const length = Math.max(1, to - from);
    for (const p of points) {
      const within = Math.min(to, p.at + step) - Math.max(from, p.at);
      if (within > 0) p.value += (e.completion_tokens * within) / length / (step / 1000);
    }
  }
  return points;
}

const median = (list: number[]) => list.sort((a, b) => a - b)[Math.floor(list.length / 2)];

function firsts(list: api.Exchange[], clock: number): Point[] {
  const first = Math.floor((clock - back) / step);
  return Array.from({ length: back / step + 1 }, (_, i) => {
    const at = (first + i) * step;
    const waits = list.filter((e) => e.first_token_ms > 0 && Math.floor(Date.parse(e.begun) / step) === first + i).map((e) => e.first_token_ms);
    return { at, value: median(waits) ?? null };
  });
}

function Figures({ now, share, recent, clock }: { now: api.Now; share?: number; recent: api.Exchange[]; clock: number }) {
  const open = recent.filter((e) => e.state === "open").length;
  const minute = recent.filter((e) => Date.parse(e.begun) + e.took_ms > clock - 60_000);
  const tokens = minute.reduce((n, e) => n + e.completion_tokens, 0);
  const figures: [string, string, string][] = [
    ["Under way", String(open), open === 1 ? "exchange" : "exchanges"],
    ["Output", (tokens / 60).toFixed(tokens < 600 ? 1 : 0), "tokens a second, over a minute"],
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
            { title: "Busy", number: true, cell: (m) => bytes(m.context_busy) },
            { title: "Cached prefixes", number: true, cell: (m) => bytes(m.context_kept) },
          ]}
        />
      )}
    </Part>
  );
}

type Use = { id: string; key: string; model: string; requests: number; bad: number; tokens: number; waits: number[]; busy: number };

function Users({ recent }: { recent: api.Exchange[] }) {
  const uses = new Map<string, Use>();
  for (const e of recent) {
    const id = `${e.label}\n${e.answered ?? ""}`;
    const u = uses.get(id) ?? { id, key: e.label, model: e.answered ?? "", requests: 0, bad: 0, tokens: 0, waits: [], busy: 0 };
    uses.set(id, u);
    u.requests++;
    if (!["open", "done"].includes(e.state)) u.bad++;
    u.tokens += e.completion_tokens;
    if (e.first_token_ms) u.waits.push(e.first_token_ms);
    if (e.completion_tokens) u.busy += e.took_ms - e.first_token_ms;
  }
  return (
    <Part title="By key and model" lead="Over the last 15 minutes.">
      <Table
        label="By key and model"
        rows={[...uses.values()].sort((a, b) => b.tokens - a.tokens)}
        id={(u) => u.id}
        columns={[
          { title: "Key", wide: "font-medium", cell: (u) => u.key },
          { title: "Model", cell: (u) => u.model || "none" },
          { title: "Requests", number: true, cell: (u) => u.requests },
          { title: "Went wrong", number: true, cell: (u) => u.bad || "" },
          { title: "Tokens written", number: true, cell: (u) => u.tokens || "" },
          { title: "Tokens a second", number: true, cell: (u) => (u.busy > 0 ? ((1000 * u.tokens) / u.busy).toFixed(0) : "") },
          { title: "TTFT", number: true, cell: (u) => (u.waits.length ? milliseconds(median(u.waits) ?? 0) : "") },
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
          { title: "Took", number: true, cell: (e) => (e.took_ms ? milliseconds(e.took_ms) : "") },
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
