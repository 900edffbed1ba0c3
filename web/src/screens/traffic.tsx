import { useEffect, useMemo } from "react";
import { Link, NavLink, Outlet, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import * as api from "../api";
import { Button, Checkbox, Empty, Field, Heading, Input, Problem, Select, Skeleton } from "../design/controls";
import { Dialog } from "../design/dialog";
import { Table, type Column } from "../design/table";
import { useExchanges } from "../exchanges";
import { targetOptions, useExchange, useKeys, useSteps, useTargets } from "../queries";
import tables from "../tables.json";
import { milliseconds, time } from "../words";

const views = [
  { path: "", title: "Exchanges" },
  { path: "jobs", title: "Conversations" },
  { path: "refused", title: "Refused" },
  { path: "costs", title: "Usage and cost" },
];

export function TrafficScreen() {
  const one = useLocation().pathname.startsWith("/traffic/exchange/"); // which is shown over the list
  return (
    <section>
      <Heading title="Traffic" lead="Every exchange, live. Content is recorded only where a key or the settings say so." />
      <nav aria-label="Views of the traffic" className="mb-5 flex flex-wrap gap-x-6 border-b border-rule">
        {views.map((v) => (
          <NavLink
            key={v.path}
            end
            to={v.path ? `/traffic/${v.path}` : "/traffic"}
            className={({ isActive }) => `-mb-px border-b-2 pb-1.5 text-small font-medium hover:text-ink ${isActive || (one && !v.path) ? "border-ink text-ink" : "border-transparent text-faded"}`}
          >
            {v.title}
          </NavLink>
        ))}
      </nav>
      <Outlet />
    </section>
  );
}

/** The filter that the address names, and how to change it. */
function useFilter(): [api.Filter, (part: api.Filter) => void] {
  const [query, setQuery] = useSearchParams();
  const text = query.toString();
  const filter = useMemo(() => {
    const q = new URLSearchParams(text);
    return Object.fromEntries(api.filterNames.flatMap((name) => (q.get(name) ? [[name, q.get(name)!]] : []))) as api.Filter;
  }, [text]);
  return [filter, (part) => setQuery(Object.fromEntries(Object.entries({ ...filter, ...part }).filter(([, v]) => v)), { replace: true })];
}

export function ExchangesView() {
  const [filter, setFilter] = useFilter();
  const { list, problem, more, older } = useExchanges(filter);
  const { id } = useParams();
  const navigate = useNavigate();
  const [query] = useSearchParams();
  const chosen = Object.keys(filter).length > 0;
  const behind = query.toString() ? `?${query}` : "";
  return (
    <>
      <Filters filter={filter} setFilter={setFilter} />
      {problem && <Problem>{problem}</Problem>}
      {!list && !problem && <Skeleton lines={6} />}
      {list?.length === 0 && <Empty>{chosen ? "No exchange fits." : "Nobody has asked anything yet. The first call of an application shows up here by itself."}</Empty>}
      {list && list.length > 0 && <ExchangeTable list={list} behind={behind} />}
      {more && (
        <div className="flex justify-center pt-4">
          <Button onClick={() => void older()}>Older ones</Button>
        </div>
      )}
      {id && <ExchangeDialog id={id} known={list?.find((e) => e.id === id)} onClose={() => void navigate(`/traffic${behind}`, { replace: true })} />}
    </>
  );
}

const slow = [
  { value: "1000", label: "1 s and more" },
  { value: "5000", label: "5 s and more" },
  { value: "30000", label: "30 s and more" },
];

/** A time as the browser's field has it, local and to the minute, and back. */
const toField = (at?: string) => (at ? new Date(Date.parse(at) - new Date(at).getTimezoneOffset() * 60_000).toISOString().slice(0, 16) : "");
const fromField = (text: string) => (text ? new Date(text).toISOString() : "");

function Filters({ filter, setFilter }: { filter: api.Filter; setFilter: (f: api.Filter) => void }) {
  const keys = useKeys();
  const targets = useTargets(false);
  // What is chosen is offered even where it is not there any more, such as a key that was removed.
  const options = (all: string, list: { value: string; label?: string }[], chosen = "") => [{ value: "", label: all }, ...list, ...(chosen && !list.some((o) => o.value === chosen) ? [{ value: chosen }] : [])];
  const labels = keys.data?.map((k) => k.label) ?? [];
  const keyList = keys.data?.map((k) => ({ value: k.id, label: labels.filter((l) => l === k.label).length > 1 ? `${k.label} (${k.id})` : k.label })) ?? [];
  return (
    <div className="flex flex-wrap items-end gap-x-5 gap-y-3 pb-5">
      <div className="w-44">
        <Field label="Key" id="by-key">
          <Select value={filter.key ?? ""} onChange={(key) => setFilter({ key })} options={options("all keys", [...keyList, { value: "console" }], filter.key)} />
        </Field>
      </div>
      <div className="w-52">
        <Field label="Model, preset or name" id="by-model">
          <Select value={filter.model ?? ""} onChange={(model) => setFilter({ model })} options={options("all", targetOptions(targets), filter.model)} />
        </Field>
      </div>
      <div className="w-36">
        <Field label="Style" id="by-style">
          <Select value={filter.style ?? ""} onChange={(style) => setFilter({ style })} options={options("all styles", tables.endpoints.map((value) => ({ value })), filter.style)} />
        </Field>
      </div>
      <div className="w-36">
        <Field label="Duration" id="by-duration">
          <Select value={filter.slow_ms ?? ""} onChange={(slow_ms) => setFilter({ slow_ms })} options={options("any", slow, filter.slow_ms)} />
        </Field>
      </div>
      <div className="h-0 basis-full max-md:hidden" />
      <div className="w-64">
        <Field label="Since" id="since">
          <Input type="datetime-local" className="tabular" value={toField(filter.since)} onChange={(e) => setFilter({ since: fromField(e.target.value) })} />
        </Field>
      </div>
      <div className="w-64">
        <Field label="Until" id="until">
          <Input type="datetime-local" className="tabular" value={toField(filter.until)} onChange={(e) => setFilter({ until: fromField(e.target.value) })} />
        </Field>
      </div>
      <div className="pb-1.5">
        <Checkbox checked={filter.bad === "true"} onChange={(bad) => setFilter({ bad: bad ? "true" : "" })}>
          Only failed ones
        </Checkbox>
      </div>
      {filter.job && <Button onClick={() => setFilter({ job: "" })}>Show all conversations</Button>}
    </div>
  );
}

const over = (e: api.Exchange) => e.state !== "open" && e.state !== "refused";

function ExchangeTable({ list, behind }: { list: api.Exchange[]; behind: string }) {
  const columns = useMemo<Column<api.Exchange>[]>(
    () => [
        {
          title: "Time",
          wide: "tabular whitespace-nowrap",
          cell: (e) => (
            <Link to={`/traffic/exchange/${encodeURIComponent(e.id)}${behind}`} className="underline decoration-rule-strong underline-offset-4 hover:decoration-ink" aria-label={`Details of the exchange at ${time(e.begun)}`}>
              {time(e.begun)}
            </Link>
          ),
        },
        { title: "Key", wide: "max-w-40 truncate font-medium", cell: (e) => e.label },
        { title: "Model", wide: "max-w-56 truncate", cell: (e) => (e.answered && e.answered !== e.model ? `${e.model} → ${e.answered}` : e.model) + (e.shadow_of ? " (shadow)" : "") },
        { title: "Style", cell: (e) => e.style },
        { title: "Prompt", number: true, cell: (e) => e.prompt_tokens || "" },
        { title: "Answer", number: true, cell: (e) => e.completion_tokens || "" },
        { title: "TTFT", number: true, cell: (e) => (e.first_token_ms ? milliseconds(e.first_token_ms) : "") },
        { title: "Duration", number: true, cell: (e) => (over(e) ? milliseconds(e.took_ms) : "") },
        { title: "Ended", wide: "whitespace-nowrap", cell: (e) => <Ended e={e} /> },
      ],
    [behind],
  );
  return <Table label="Exchanges" testid="exchanges" rows={list} id={idOf} columns={columns} />;
}

const idOf = (e: api.Exchange) => e.id;

export function Ended({ e }: { e: api.Exchange }) {
  if (e.state === "open") {
    return (
      <span className="flex items-center gap-2">
        <span aria-hidden className="size-2 rounded-full bg-vermilion" />
        in progress
      </span>
    );
  }
  if (e.state === "done") return <span className="text-faded">{e.finish_reason === "length" ? "length limit reached" : e.finish_reason && e.finish_reason !== "stop" ? `complete, ${e.finish_reason.replace("_", " ")}` : "complete"}</span>;
  return <span className="text-vermilion">{e.code ? `${e.state}: ${e.code}` : e.state}</span>;
}

/** One exchange. What the list knows of it is shown at once; its content comes when the gate has told it. */
function ExchangeDialog({ id, known, onClose }: { id: string; known?: api.Exchange; onClose: () => void }) {
  const { data, error, refetch } = useExchange(id);
  const e = known && (!data || data.state === "open") ? known : (data ?? known);
  const over = known !== undefined && known.state !== "open";
  useEffect(() => {
    if (over && data?.state === "open") void refetch(); // it has ended since it was asked for
  }, [over, data?.state, refetch]);
  if (!e) {
    return (
      <Dialog open onClose={onClose} title="An exchange" description={`Request ${id}`}>
        {error ? <Problem>{error.message}</Problem> : <Skeleton />}
      </Dialog>
    );
  }
  return (
    <Dialog open wide={!!data?.content} onClose={onClose} title={`At ${time(e.begun)}`} description={`Request ${e.id}`}>
      {!data && !error && <Skeleton lines={6} />}
      {error && <Problem>{error.message}</Problem>}
      <dl className="grid grid-cols-[10rem_1fr] gap-y-1.5">
        {data?.facts.map(({ title, text }) => (
          <div key={title} className="contents">
            <dt className="text-small text-faded">{title}</dt>
            <dd className="min-w-0 break-words">{text}</dd>
          </div>
        ))}
      </dl>
      {data?.children?.length ? <Steps whole={e} ids={data.children} /> : <Strip e={e} />}
      {data?.content && <Recorded content={data.content} />}
      <div className="flex justify-end gap-3">
        {e.job && e.step && e.step > 1 && (
          <Link to={`/traffic?job=${encodeURIComponent(e.job)}`} className="inline-flex h-9 items-center rounded-control border border-rule-strong px-3.5 text-small font-medium hover:border-ink">
            The whole conversation
          </Link>
        )}
        {data?.content && (
          <Link to={`/traffic/exchange/${encodeURIComponent(e.id)}/replay`} className="inline-flex h-9 items-center rounded-control border border-rule-strong px-3.5 text-small font-medium hover:border-ink">
            Replay
          </Link>
        )}
        <Button onClick={onClose}>Close</Button>
      </div>
    </Dialog>
  );
}

/** Less than this is not shown, in milliseconds. */
const seen = 0.05;

/** Where the time of an exchange went. */
function Strip({ e }: { e: api.Exchange }) {
  if (!e.took_ms) return null;
  const before = e.queue_ms + e.load_ms + e.prefill_ms;
  const first = Math.max(e.first_token_ms || e.took_ms, before);
  const parts: [string, number, string][] = [
    ["Queue", e.queue_ms, "bg-brass"],
    ["Load", e.load_ms, "bg-faded"],
    ["Prefill", e.prefill_ms, "bg-moss"],
    ["Gate", first - before, "bg-rule-strong"],
    ["Decode", e.took_ms - first, "bg-ink"],
  ];
  return (
    <div className="grid gap-2">
      <div className="flex h-3 w-full overflow-hidden rounded-control bg-wash" aria-hidden>
        {parts.map(([name, ms, look]) => ms > seen && <span key={name} className={look} style={{ width: `${(100 * ms) / e.took_ms}%` }} />)}
      </div>
      <ul className="flex flex-wrap gap-x-5 gap-y-1 text-small">
        {parts.map(
          ([name, ms, look]) =>
            ms > seen && (
              <li key={name} className="flex items-center gap-2">
                <span aria-hidden className={`size-2 rounded-full ${look}`} />
                {name} <span className="tabular text-faded">{milliseconds(ms)}</span>
              </li>
            ),
        )}
      </ul>
    </div>
  );
}

/** The steps of an exchange along its time: when the model was asked, and which tools ran. */
function Steps({ whole, ids }: { whole: api.Exchange; ids: string[] }) {
  const steps = useSteps(ids);
  if (!whole.took_ms) return null;
  const begun = Date.parse(whole.begun);
  const bar = (at: string, ms: number, look: string) => {
    const from = Math.min(99, Math.max(0, (100 * (Date.parse(at) - begun)) / whole.took_ms));
    return (
      <span className="relative block h-3 rounded-control bg-wash" aria-hidden>
        <span className={`absolute inset-y-0 min-w-0.5 rounded-control ${look}`} style={{ left: `${from}%`, width: `${Math.min(100 - from, (100 * ms) / whole.took_ms)}%` }} />
      </span>
    );
  };
  return (
    <ul className="grid grid-cols-[minmax(8rem,max-content)_minmax(0,1fr)_max-content] items-center gap-x-4 gap-y-1 text-small" aria-label="Steps" data-testid="steps">
      {steps.map((s) => (
        <li key={s.id} className="contents">
          <Link to={`/traffic/exchange/${encodeURIComponent(s.id)}`} className="font-medium underline decoration-rule-strong underline-offset-4 hover:decoration-ink">
            Step {s.step}
          </Link>
          {bar(s.begun, s.took_ms, "bg-ink")}
          <span className="tabular text-faded">
            {milliseconds(s.took_ms)}, {s.prompt_tokens} + {s.completion_tokens} tokens, {s.cached_tokens} cached
          </span>
          {s.tools?.map((run) => (
            <span key={run.call} className="contents">
              <span className="pl-4 font-mono break-all">
                {run.server}/{run.name}
              </span>
              {bar(run.begun, run.ms, run.failed ? "bg-vermilion" : "bg-moss")}
              <span className={`tabular ${run.failed ? "text-vermilion" : "text-faded"}`}>
                {milliseconds(run.ms)}
                {run.failed && `: ${run.failed}`}
              </span>
            </span>
          ))}
        </li>
      ))}
    </ul>
  );
}

/** Recorded content: the prompt with what came from where, or the request where no prompt is known, and the answers. */
function Recorded({ content }: { content: NonNullable<api.ShownExchange["content"]> }) {
  return (
    <div className="grid gap-4 border-t border-rule pt-4">
      {content.problem && <Problem>{content.problem}</Problem>}
      {content.prompt.length > 0 && (
        <div>
          <h3 className="pb-1 text-small font-medium">The prompt</h3>
          <pre className="max-h-64 overflow-auto font-mono text-small leading-6 whitespace-pre-wrap" tabIndex={0} data-testid="recorded-prompt">
            {content.prompt.map((p, i) => (
              <span key={i} title={p.origin ?? "template"} className={p.origin?.startsWith("messages[") ? "text-moss" : "text-faded"}>
                {p.text}
              </span>
            ))}
          </pre>
        </div>
      )}
      {content.prompt.length === 0 && (
        <div>
          <h3 className="pb-1 text-small font-medium">The request</h3>
          <pre className="max-h-64 overflow-auto font-mono text-small leading-6 whitespace-pre-wrap" tabIndex={0} data-testid="recorded-request">
            {JSON.stringify(content.request, null, 2)}
          </pre>
        </div>
      )}
      {content.answers.map((a, i) => (
        <div key={i}>
          <h3 className="pb-1 text-small font-medium">{content.answers.length > 1 ? `Answer ${i + 1}` : "The answer"}</h3>
          {a.reasoning && <p className="text-small whitespace-pre-wrap text-faded">{a.reasoning}</p>}
          <p className="font-serif text-large whitespace-pre-wrap">{a.text}</p>
          {a.calls?.map((c, j) => (
            <p key={j} className="font-mono text-small break-all">
              {c.server && `${c.server}/`}
              {c.name}({c.arguments})
              {c.result !== undefined && <span className="block pl-4 text-faded">→ {c.result}</span>}
            </p>
          ))}
        </div>
      ))}
    </div>
  );
}
