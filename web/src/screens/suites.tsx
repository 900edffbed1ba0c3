import { useEffect, useRef, useState, type FormEvent } from "react";
import { Link, useNavigate, useParams } from "react-router";
import * as api from "../api";
import { Button, Checkbox, Empty, Field, Heading, NumberInput, Part, Problem, Skeleton } from "../design/controls";
import { Table } from "../design/table";
import { client, useSuites, useTargets } from "../queries";
import { ago, message, milliseconds } from "../words";
import { picturesOf, read } from "./pictures";

/** Suites: run one, and what they came to over time. */
export function SuitesScreen() {
  const { data, error } = useSuites();
  const { id } = useParams();
  const chosen = id ? data?.find((r) => r.id === id) : data?.[0];
  return (
    <section>
      <Heading title="Suites" lead="Questions with what is expected of the answers, asked of several models, several times. The built-in one measures what a model can do; others are files of your own." />
      <Run />
      {error && <Problem>{error.message}</Problem>}
      {!data && !error && <Skeleton />}
      {data?.length === 0 && (
        <Empty>
          No suite was run yet. <code>kindred suite from</code> makes one of recorded exchanges.
        </Empty>
      )}
      {id && data && !chosen && <Problem>This run is not kept any more.</Problem>}
      {chosen && <Report report={chosen} />}
      {data && data.length > 0 && <History runs={data} shown={chosen?.id} />}
    </section>
  );
}

function Run() {
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<string[]>();
  const [samples, setSamples] = useState<number | undefined>(3);
  const [file, setFile] = useState<{ name: string; text: string; pictures: Record<string, string> }>();
  const [progress, setProgress] = useState("");
  const [problem, setProblem] = useState("");
  const stop = useRef<AbortController>(null);
  const here = useRef(true);
  useEffect(() => {
    here.current = true;
    return () => {
      here.current = false;
    };
  }, []);
  const all = useTargets().map((t) => t.name);
  const asked = chosen ?? all.slice(0, 1);
  async function run(e: FormEvent) {
    e.preventDefault();
    const controller = new AbortController();
    stop.current = controller;
    setProblem("");
    setProgress("Asking…");
    try {
      const report = await api.runSuite({ suite: file?.text, pictures: file?.pictures, models: asked, samples }, controller.signal, (event) => setProgress(`${event.done ?? 0} of ${event.all ?? 0}`));
      await client.invalidateQueries({ queryKey: ["suites"] });
      await client.invalidateQueries({ queryKey: ["models"] });
      // Who has gone to another screen meanwhile stays there.
      if (here.current) void navigate(`/suites/${report.id ?? ""}`);
    } catch (failed) {
      if (!controller.signal.aborted) setProblem(message(failed));
    }
    setProgress("");
  }
  return (
    <form onSubmit={(e) => void run(e)} className="grid gap-4 border-t border-rule pt-5">
      {problem && <Problem>{problem}</Problem>}
      <fieldset className="flex flex-wrap gap-x-6 gap-y-2">
        <legend className="pb-1.5 text-small font-medium">Ask</legend>
        {all.map((m) => (
          <Checkbox key={m} checked={asked.includes(m)} onChange={(on) => setChosen(on ? [...asked, m] : asked.filter((a) => a !== m))}>
            {m}
          </Checkbox>
        ))}
      </fieldset>
      <div className="flex flex-wrap items-end gap-4">
        <div className="w-32">
          <Field label="Samples" id="suite-samples">
            <NumberInput min={1} max={100} value={samples} onChange={setSamples} />
          </Field>
        </div>
        <Field label="Suite, with its pictures" id="suite-file">
          <input
            id="suite-file"
            type="file"
            multiple
            accept=".yaml,.yml,image/png,image/jpeg,image/gif,image/webp"
            className="h-9 max-w-72 text-small file:mr-3 file:h-9 file:rounded-control file:border file:border-rule-strong file:bg-leaf file:px-3 file:text-small file:font-medium"
            onChange={(e) => {
              const pictures = picturesOf(e.target.files);
              const chosenFile = [...(e.target.files ?? [])].find((f) => !pictures.includes(f));
              if (!chosenFile) return setFile(undefined);
              void Promise.all([chosenFile.text(), ...pictures.map(read)])
                .then(([text, ...shown]) => setFile({ name: chosenFile.name, text, pictures: Object.fromEntries(shown.map((p) => [p.name, p.url])) }))
                .catch((failed) => setProblem(message(failed)));
            }}
          />
        </Field>
        <Button type="submit" weight="primary" busy={progress !== ""} disabled={asked.length === 0}>
          {progress || (file ? `Run ${file.name}` : "Run the built-in suite")}
        </Button>
        {progress && <Button onClick={() => stop.current?.abort()}>Stop</Button>}
      </div>
      <p className="text-small text-faded">Samples per case. Without a file, the built-in suite runs. Its requests run at low priority: applications go first.</p>
    </form>
  );
}

const percent = (x: number) => `${Math.round(100 * x)} %`;

function Report({ report: r }: { report: api.SuiteReport }) {
  const cell = (model: string, name: string) => r.cells.find((c) => c.model === model && c.case === name);
  const failures = r.cells.flatMap((c) => c.failures.slice(0, 2).map((f) => ({ ...f, model: c.model, name: c.case })));
  return (
    <Part title={r.suite} lead={`Run ${ago(r.begun)}: ${r.cases.length} cases, each asked ${r.samples} times of each model, in ${milliseconds(r.took_ms)}. The second line of a cell is where the true rate lies, with a confidence of 95 %.`}>
      <Table
        label={`What ${r.suite} came to`}
        testid="suite-report"
        rows={r.cases}
        id={(name) => name}
        columns={[
          { title: "Case", wide: "font-medium", cell: (name) => name },
          ...r.models.map((m) => ({
            title: m,
            wide: "py-1.5",
            cell: (name: string) => {
              const c = cell(m, name);
              if (!c) return "";
              const look = c.passed === c.asked ? "bg-moss" : c.passed === 0 ? "bg-vermilion" : "bg-brass";
              return (
                <span className="flex items-center gap-2.5">
                  <span aria-hidden className={`size-2 shrink-0 rounded-full ${look}`} />
                  <span>
                    <span className="tabular">
                      {c.passed} of {c.asked}
                    </span>
                    <span className="tabular block text-small text-faded">
                      {percent(c.low)} to {percent(c.high)}
                    </span>
                  </span>
                </span>
              );
            },
          })),
        ]}
      />
      {failures.length > 0 && (
        <div className="pt-6">
          <h3 className="pb-2 text-small font-medium">Failed expectations</h3>
          <ul className="grid gap-3">
            {failures.map((f, i) => (
              <li key={i}>
                <span className="font-medium">{f.name}</span>{" "}
                <span className="text-small text-faded">
                  {f.model}, sample {f.sample}
                  {f.exchange && (
                    <>
                      ,{" "}
                      <Link to={`/traffic/exchange/${encodeURIComponent(f.exchange)}`} className="underline decoration-rule-strong underline-offset-4 hover:decoration-ink">
                        exchange
                      </Link>
                    </>
                  )}
                </span>
                <p className="text-small break-words">
                  {f.what}: {f.why}
                </p>
              </li>
            ))}
          </ul>
        </div>
      )}
    </Part>
  );
}

type Line = { id: string; begun: string; suite: string; digest: string; model: string; rate: number; cases: number };

/** What each model came to, run after run. */
function History({ runs, shown }: { runs: api.SuiteReport[]; shown?: string }) {
  const lines: Line[] = runs.flatMap((r) =>
    r.models.map((model) => {
      const cells = r.cells.filter((c) => c.model === model);
      return { id: r.id ?? "", begun: r.begun, suite: r.suite, digest: r.digest, model, rate: cells.reduce((sum, c) => sum + c.passed / Math.max(1, c.asked), 0), cases: cells.length };
    }),
  );
  const before = (l: Line) => lines.find((o) => o.begun < l.begun && o.model === l.model && o.digest === l.digest);
  return (
    <Part title="Over time" lead="Every run, the newest first, with how it compares with the one before of the same suite and model.">
      <Table
        label="Suite runs"
        rows={lines}
        id={(l) => l.id + l.model}
        columns={[
          {
            title: "Run",
            wide: "whitespace-nowrap",
            cell: (l) => (
              <Link to={`/suites/${l.id}`} aria-current={l.id === shown ? "true" : undefined} className={`underline decoration-rule-strong underline-offset-4 hover:decoration-ink ${l.id === shown ? "font-medium" : ""}`}>
                {ago(l.begun)}
              </Link>
            ),
          },
          { title: "Suite", cell: (l) => l.suite },
          { title: "Model", wide: "font-medium", cell: (l) => l.model },
          {
            title: "Passed",
            wide: "min-w-48",
            cell: (l) => (
              <span className="flex items-center gap-3">
                <span aria-hidden className="h-1.5 w-24 bg-rule/60">
                  <span className="block h-full bg-ink" style={{ width: `${(100 * l.rate) / Math.max(1, l.cases)}%` }} />
                </span>
                <span className="tabular whitespace-nowrap">
                  {l.rate.toFixed(1)} of {l.cases}
                </span>
              </span>
            ),
          },
          {
            title: "Since",
            number: true,
            cell: (l) => {
              const old = before(l);
              if (!old) return "";
              const by = l.rate - old.rate;
              if (Math.abs(by) < 0.05) return <span className="text-faded">as before</span>;
              return <span className={by > 0 ? "text-moss" : "text-vermilion"}>{by > 0 ? `+${by.toFixed(1)}` : by.toFixed(1)}</span>;
            },
          },
        ]}
      />
    </Part>
  );
}
