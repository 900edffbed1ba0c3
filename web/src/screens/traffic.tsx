import { useEffect, useState } from "react";
import * as api from "../api";
import { Button, Field, Heading, Problem, inputStyle } from "../design/controls";
import { Dialog } from "../design/dialog";
import { useLoad } from "../load";
import { message, milliseconds } from "../words";

export function TrafficScreen() {
  const [filter, setFilter] = useState<api.Filter>({ key: "", model: "", bad: false });
  const { list, problem, more, older } = useExchanges(filter);
  const [opened, setOpened] = useState<api.Exchange>();
  const shown = list?.find((e) => e.id === opened?.id) ?? opened; // it may have ended since
  return (
    <section>
      <Heading title="Traffic" lead="Every exchange, as it happens. What was said in it is not kept." />
      <Filters filter={filter} setFilter={setFilter} />
      {problem && <Problem>{problem}</Problem>}
      {list && list.length === 0 && (
        <p className="border-t border-rule py-10 text-faded">
          {filter.key || filter.model || filter.bad ? "No exchange fits." : "Nobody has asked anything yet. The first call of an application shows up here by itself."}
        </p>
      )}
      {list && list.length > 0 && <ExchangeTable list={list} onShow={setOpened} />}
      {more && (
        <div className="flex justify-center border-t border-rule pt-4">
          <Button onClick={() => void older()}>Older ones</Button>
        </div>
      )}
      {shown && <ExchangeDialog exchange={shown} onClose={() => setOpened(undefined)} />}
    </section>
  );
}

/** The newest exchanges that fit, kept up to date by the gate's feed. */
function useExchanges(filter: api.Filter) {
  const [list, setList] = useState<api.Exchange[]>();
  const [more, setMore] = useState(false);
  const [problem, setProblem] = useState("");
  useEffect(() => {
    setList(undefined);
    const seen = new Map<string, api.Exchange>(); // what the feed told; a page may be older than that
    let closed = false;
    async function load() {
      try {
        const page = (await api.exchanges(filter)).exchanges;
        if (closed) return;
        const later = [...seen.values()].reverse().filter((e) => !page.some((p) => p.id === e.id));
        setList([...later, ...page.map((e) => seen.get(e.id) ?? e)]);
        setMore(page.length === api.pageLength);
        setProblem("");
      } catch (e) {
        if (!closed) setProblem(message(e));
      }
    }
    const feed = new EventSource("/gate/exchanges/live");
    feed.onopen = () => {
      seen.clear(); // what was missed while the line was down is in the page
      void load();
    };
    feed.onerror = () => setProblem("The gate does not answer. What happens meanwhile shows up here when it does again.");
    feed.onmessage = (event) => {
      if (event.data === "[DONE]") return; // the gate stops; the browser tries again by itself
      const told = JSON.parse(event.data) as api.Exchange;
      if (!fits(told, filter)) return;
      seen.set(told.id, told);
      setList((old) => old && merged(old, told));
    };
    return () => {
      closed = true;
      feed.close();
    };
  }, [filter]);
  async function older() {
    try {
      const page = (await api.exchanges(filter, list?.at(-1)?.id)).exchanges;
      setList((old) => [...(old ?? []), ...page]);
      setMore(page.length === api.pageLength);
    } catch (e) {
      setProblem(message(e));
    }
  }
  return { list, problem, more, older };
}

/** Puts an exchange where it belongs: in its own place if it is there already, else at the top. */
function merged(list: api.Exchange[], seen: api.Exchange) {
  const at = list.findIndex((e) => e.id === seen.id);
  return at < 0 ? [seen, ...list] : list.map((e, i) => (i === at ? seen : e));
}

function fits(e: api.Exchange, f: api.Filter) {
  return (!f.key || e.label === f.key) && (!f.model || e.model === f.model || e.answered === f.model) && (!f.bad || !["open", "done"].includes(e.state));
}

function Filters({ filter, setFilter }: { filter: api.Filter; setFilter: (f: api.Filter) => void }) {
  const keys = useLoad(api.keys);
  const models = useLoad(api.models);
  const labels = [...new Set(keys.data?.map((k) => k.label))];
  return (
    <div className="flex flex-wrap items-end gap-5 pb-5">
      <Choice id="by-key" label="Key" all="all keys" options={labels} value={filter.key} onChoose={(key) => setFilter({ ...filter, key })} />
      <Choice id="by-model" label="Model" all="all models" options={models.data?.models.map((m) => m.id) ?? []} value={filter.model} onChoose={(model) => setFilter({ ...filter, model })} />
      <label className="flex h-9 items-center gap-2">
        <input type="checkbox" className="accent-vermilion" checked={filter.bad} onChange={(e) => setFilter({ ...filter, bad: e.target.checked })} />
        Only those that went wrong
      </label>
    </div>
  );
}

function Choice(props: { id: string; label: string; all: string; options: string[]; value: string; onChoose: (value: string) => void }) {
  return (
    <div className="w-48">
      <Field label={props.label} htmlFor={props.id}>
        <select id={props.id} value={props.value} onChange={(e) => props.onChoose(e.target.value)} className={`${inputStyle} h-9`}>
          <option value="">{props.all}</option>
          {props.options.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      </Field>
    </div>
  );
}

function ExchangeTable({ list, onShow }: { list: api.Exchange[]; onShow: (e: api.Exchange) => void }) {
  return (
    <div className="overflow-x-auto border-t border-rule">
      <table className="w-full text-left" data-testid="exchanges">
        <thead className="text-small text-faded">
          <tr>
            {["Time", "Key", "Model", "Style", "Prompt", "Answer", "First token", "Took", "Ended"].map((h) => (
              <th key={h} scope="col" className={`py-2 pr-6 font-normal whitespace-nowrap ${numeric.has(h) ? "text-right" : ""}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {list.map((e) => (
            <tr key={e.id} className="h-10 border-t border-rule">
              <td className="tabular pr-6 whitespace-nowrap">
                <button type="button" className="underline decoration-rule-strong underline-offset-4 hover:decoration-ink" onClick={() => onShow(e)} aria-label={`Details of the exchange at ${time(e.begun)}`}>
                  {time(e.begun)}
                </button>
              </td>
              <td className="max-w-40 truncate pr-6 font-medium">{e.label}</td>
              <td className="max-w-56 truncate pr-6">{e.answered && e.answered !== e.model ? `${e.model} → ${e.answered}` : e.model}</td>
              <td className="pr-6">{e.style}</td>
              <td className="tabular pr-6 text-right">{e.prompt_tokens || ""}</td>
              <td className="tabular pr-6 text-right">{e.completion_tokens || ""}</td>
              <td className="tabular pr-6 text-right whitespace-nowrap">{e.first_token_ms ? milliseconds(e.first_token_ms) : ""}</td>
              <td className="tabular pr-6 text-right whitespace-nowrap">{e.state === "open" || e.state === "refused" ? "" : milliseconds(e.took_ms)}</td>
              <td className="whitespace-nowrap">
                <Ended e={e} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const numeric = new Set(["Prompt", "Answer", "First token", "Took"]);

function Ended({ e }: { e: api.Exchange }) {
  if (e.state === "open") {
    return (
      <span className="flex items-center gap-2">
        <span aria-hidden className="size-2 rounded-full bg-vermilion" />
        under way
      </span>
    );
  }
  if (e.state === "done") return <span className="text-faded">{e.finish_reason && e.finish_reason !== "stop" ? `whole, by ${e.finish_reason}` : "whole"}</span>;
  return <span className="text-vermilion">{e.code ? `${e.state}: ${e.code}` : e.state}</span>;
}

function ExchangeDialog({ exchange: e, onClose }: { exchange: api.Exchange; onClose: () => void }) {
  const facts: [string, string][] = [
    ["Key", `${e.label} (kg_${e.key}…)`],
    ["From", [e.client, e.agent].filter(Boolean).join("  ")],
    ["Model", e.answered && e.answered !== e.model ? `${e.model}, answered by ${e.answered}` : e.model],
    ["Asked", `${e.style}  ${e.endpoint}`],
    ["Prompt", `${e.prompt_tokens} tokens, ${e.cached_tokens} of them known from before`],
    ["Answer", `${e.completion_tokens} tokens, ${e.reasoning_tokens} of them reasoning`],
  ];
  return (
    <Dialog open onClose={onClose} title={`At ${time(e.begun)}`} description={`Request ${e.id}`}>
      {e.error && <Problem>{e.error}</Problem>}
      <dl className="grid grid-cols-[6rem_1fr] gap-y-1.5">
        {facts.map(([name, says]) => (
          <div key={name} className="contents">
            <dt className="text-small text-faded">{name}</dt>
            <dd className="min-w-0 break-words">{says}</dd>
          </div>
        ))}
      </dl>
      <Strip e={e} />
      <div className="flex justify-end">
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
    ["Waiting", e.queue_ms, "bg-brass"],
    ["Loading", e.load_ms, "bg-faded"],
    ["Reading", e.prefill_ms, "bg-moss"],
    ["The gate", first - before, "bg-rule-strong"],
    ["Writing", e.took_ms - first, "bg-ink"],
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

function time(iso: string) {
  const at = new Date(iso);
  const clock = at.toLocaleTimeString([], { hour12: false });
  return Date.now() - at.getTime() < 86_400_000 ? clock : `${iso.slice(5, 10)} ${clock}`;
}
