import { useState } from "react";
import { Link } from "react-router";
import * as api from "../api";
import { Button, Empty, Field, Problem, Select, Skeleton } from "../design/controls";
import { Dialog } from "../design/dialog";
import { Table } from "../design/table";
import { useCosts, useJobs, useRefusals } from "../queries";
import { count, milliseconds, time } from "../words";

/** Exchanges that go on from one another. */
export function JobsView() {
  const { data, error } = useJobs();
  if (error) return <Problem>{error.message}</Problem>;
  if (!data) return <Skeleton />;
  if (data.length === 0) return <Empty>There is no conversation of several requests yet. A conversation of several questions, or an agent with its steps, shows up here as one job.</Empty>;
  return (
    <Table
      label="Jobs"
      rows={data}
      id={(j) => j.id}
      columns={[
        {
          title: "Begun",
          wide: "tabular whitespace-nowrap",
          cell: (j) => (
            <Link to={`/traffic?job=${encodeURIComponent(j.id)}`} className="underline decoration-rule-strong underline-offset-4 hover:decoration-ink">
              {time(j.begun)}
            </Link>
          ),
        },
        { title: "Key", wide: "font-medium", cell: (j) => j.label },
        { title: "Model", cell: (j) => j.model },
        { title: "Requests", number: true, cell: (j) => j.requests },
        { title: "Prompt grew", number: true, cell: (j) => `${j.first_prompt_tokens} to ${j.last_prompt_tokens}` },
        { title: "Repeated", number: true, cell: (j) => (j.prompt_tokens ? `${Math.round((100 * j.repeated_tokens) / j.prompt_tokens)} %` : "") },
        { title: "Answered", number: true, cell: (j) => count(j.completion_tokens) },
        { title: "In requests", number: true, cell: (j) => milliseconds(j.model_ms) },
        { title: "Between", number: true, cell: (j) => milliseconds(j.between_ms) },
      ]}
    />
  );
}

/** What was refused, with what it had sent. */
export function RefusedView() {
  const { data, error } = useRefusals();
  const [shown, setShown] = useState<api.Refusal>();
  if (error) return <Problem>{error.message}</Problem>;
  if (!data) return <Skeleton />;
  if (data.length === 0) return <Empty>No request was refused since the gate was started. The last fifty are kept in memory, with what they sent.</Empty>;
  return (
    <>
      <Table
        label="Refused requests"
        rows={data}
        id={(r) => r.id}
        columns={[
          { title: "Time", wide: "tabular whitespace-nowrap", cell: (r) => time(r.at) },
          { title: "Key", wide: "font-medium whitespace-nowrap", cell: (r) => r.label ?? "" },
          { title: "Asked", wide: "tabular", cell: (r) => r.path },
          { title: "Answered", wide: "whitespace-nowrap text-vermilion", cell: (r) => `${r.status} ${r.code}` },
          { title: "Because", wide: "min-w-64", cell: (r) => r.error },
          {
            title: "",
            wide: "text-right",
            cell: (r) => (
              <Button weight="quiet" aria-label={`Open what was sent at ${time(r.at)}`} onClick={() => setShown(r)}>
                Open
              </Button>
            ),
          },
        ]}
      />
      {shown && (
        <Dialog open wide onClose={() => setShown(undefined)} title={`${shown.status} ${shown.code}`} description={shown.error}>
          <p className="text-small text-faded">
            {shown.bytes} bytes of {shown.content_type || "no type"}, from {shown.client} {shown.agent}
          </p>
          <pre className="max-h-96 overflow-auto border-y border-rule py-3 font-mono text-small break-all whitespace-pre-wrap" tabIndex={0}>
            {shown.body || "Nothing was read of it."}
          </pre>
          <div className="flex justify-end">
            <Button onClick={() => setShown(undefined)}>Close</Button>
          </div>
        </Dialog>
      )}
    </>
  );
}

const by = [
  { value: "key", label: "by key" },
  { value: "group", label: "by group" },
  { value: "model", label: "by model" },
];

/** What a month came to. */
export function CostsView() {
  const months = Array.from({ length: 12 }, (_, i) => {
    const at = new Date();
    at.setDate(1);
    at.setMonth(at.getMonth() - i);
    return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}`;
  });
  const [month, setMonth] = useState(months[0] ?? "");
  const [way, setWay] = useState("key");
  const { data, error } = useCosts(month);
  return (
    <div className="grid gap-5">
      <div className="flex flex-wrap gap-5">
        <div className="w-40">
          <Field label="Month" id="month">
            <Select value={month} onChange={setMonth} options={months.map((value) => ({ value }))} />
          </Field>
        </div>
        <div className="w-40">
          <Field label="Usage and cost" id="added-up">
            <Select value={way} onChange={setWay} options={by} />
          </Field>
        </div>
      </div>
      {error && <Problem>{error.message}</Problem>}
      {!data && !error && <Skeleton />}
      {data?.totals.length === 0 && <Empty>Nothing was asked in {data.month}.</Empty>}
      {data && data.totals.length > 0 && <CostTable data={data} way={way} />}
    </div>
  );
}

type Sum = { what: string; requests: number; failed: number; prompt: number; answer: number; busy: number; cost: number; share: number };

function CostTable({ data, way }: { data: api.CostList; way: string }) {
  const sums = new Map<string, Sum>();
  for (const t of data.totals) {
    const what = { key: t.label, group: t.group ?? "", model: t.model }[way] || "(none)";
    const s = sums.get(what) ?? { what, requests: 0, failed: 0, prompt: 0, answer: 0, busy: 0, cost: 0, share: 0 };
    sums.set(what, {
      what,
      requests: s.requests + t.requests,
      failed: s.failed + t.failed,
      prompt: s.prompt + t.prompt_tokens,
      answer: s.answer + t.completion_tokens,
      busy: s.busy + t.busy_ms,
      cost: s.cost + t.cost,
      share: s.share + t.machine_share,
    });
  }
  const priced = data.totals.some((t) => t.cost > 0);
  return (
    <>
      <Table
        label={`Costs of ${data.month}`}
        rows={[...sums.values()]}
        id={(s) => s.what}
        columns={[
          { title: by.find((b) => b.value === way)?.label.replace("by ", "").replace(/^./, (c) => c.toUpperCase()) ?? "", wide: "font-medium", cell: (s) => s.what },
          { title: "Requests", number: true, cell: (s) => count(s.requests) },
          { title: "Failed", number: true, cell: (s) => s.failed || "" },
          { title: "Prompt tokens", number: true, cell: (s) => count(s.prompt) },
          { title: "Answer tokens", number: true, cell: (s) => count(s.answer) },
          { title: "In the model", number: true, cell: (s) => milliseconds(s.busy) },
          { title: `Tokens, ${data.currency}`, number: true, hidden: !priced, cell: (s) => (s.cost / 1e6).toFixed(4) },
          { title: `Machine, ${data.currency}`, number: true, hidden: data.machine === 0, cell: (s) => s.share.toFixed(2) },
        ]}
      />
      {!priced && data.machine === 0 && (
        <p className="text-small text-faded">
          What tokens and the machine cost can be said in the configuration, under <code className="font-mono">prices</code>.
        </p>
      )}
    </>
  );
}
