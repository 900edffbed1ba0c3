import { useState } from "react";
import * as api from "../api";
import { Breakable, Button, Checkbox, Empty, Heading, Part, Problem, Skeleton } from "../design/controls";
import { Confirm } from "../design/dialog";
import { Table } from "../design/table";
import { useAct, useCheck, useSettings } from "../queries";

export function SetupScreen() {
  const settings = useSettings();
  const check = useCheck();
  return (
    <section>
      <Heading title="Setup" lead="The gate's settings, where each comes from, and common problems." />
      <div className="border-t border-rule pt-6">
        <Findings found={check.data} problem={check.error?.message} onAgain={() => void check.refetch()} busy={check.isFetching} />
      </div>
      <SettingsPart settings={settings.data} problem={settings.error?.message} />
      <Recorded settings={settings.data} />
    </section>
  );
}

const marks = { error: "text-vermilion", warning: "text-brass", ok: "text-moss" } as const;

function Findings({ found, problem, onAgain, busy }: { found?: api.Finding[]; problem?: string; onAgain: () => void; busy: boolean }) {
  const [all, setAll] = useState(false);
  const order = ["error", "warning", "ok"] as const;
  const bad = found?.filter((f) => f.state !== "ok") ?? [];
  const shown = found && (all ? [...found].sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state)) : bad);
  return (
    <>
      <div className="flex flex-wrap items-end justify-between gap-4 pb-3">
        <div>
          <h2 className="font-serif text-large font-medium">{!found ? "Checking…" : bad.length === 0 ? "No problems found" : `${bad.length} of ${found.length} need attention`}</h2>
          <p className="text-faded">
            The same as <code className="font-mono text-small">kindred check</code>, as far as the gate can tell by itself.
          </p>
        </div>
        <Button busy={busy} onClick={onAgain}>
          Check now
        </Button>
      </div>
      {problem && <Problem>{problem}</Problem>}
      {!found && !problem && <Skeleton lines={3} />}
      <ul data-testid="findings">
        {shown?.map((f) => (
          <li key={f.name} className="grid gap-x-6 border-t border-rule py-2.5 md:grid-cols-[5rem_11rem_minmax(0,1fr)]">
            <span className={`text-small font-medium ${marks[f.state]}`}>{f.state}</span>
            <span className="font-medium">{f.name}</span>
            <span>
              {f.said}
              {f.remedy && <span className="block text-faded">{f.remedy.replace(/^./, (c) => c.toUpperCase())}</span>}
            </span>
          </li>
        ))}
      </ul>
      {found && (
        <div className="border-t border-rule pt-3">
          <Checkbox checked={all} onChange={setAll}>
            Show what is ok as well
          </Checkbox>
        </div>
      )}
    </>
  );
}

type Setting = api.Settings["settings"][number];

const from = (s: Setting) => (s.layer === "default" ? "default" : `${s.layer} ${s.where ?? ""}`);

function SettingsPart({ settings, problem }: { settings?: api.Settings; problem?: string }) {
  const [all, setAll] = useState(false);
  const waiting = settings?.settings.filter((s) => s.running !== undefined) ?? [];
  const list = settings?.settings.filter((s) => all || s.layer !== "default" || s.running !== undefined);
  return (
    <Part title="Settings" lead={settings?.file ? `From ${settings.file}, the environment and flags. The file is watched: what can change while the gate runs does.` : "This gate has no configuration of its own."}>
      {problem && <Problem>{problem}</Problem>}
      {settings?.problem && <Problem>{settings.problem} The gate goes on with what it had.</Problem>}
      {waiting.length > 0 && <p className="pb-3 text-brass">{waiting.length === 1 ? "One setting waits" : `${waiting.length} settings wait`} for the next start.</p>}
      {!settings && !problem && <Skeleton />}
      {list?.length === 0 && settings && settings.settings.length > 0 && <Empty>Everything is as it is by default.</Empty>}
      {list && list.length > 0 && (
        <Table
          label="Settings"
          rows={list}
          id={(s) => s.name}
          columns={[
            { title: "Setting", wide: "tabular whitespace-nowrap", cell: (s) => s.name },
            { title: "Value", wide: "tabular min-w-48 wrap-break-word", cell: (s) => (s.value ? <Breakable text={s.value} /> : <span className="text-faded">nothing</span>) },
            { title: "From", wide: "text-faded min-w-72 wrap-break-word", cell: (s) => <Breakable text={from(s)} /> },
            {
              title: "Takes effect",
              wide: "whitespace-nowrap",
              cell: (s) => (s.running !== undefined ? <span className="text-brass">at the next start; now {s.running || "nothing"}</span> : s.restart ? <span className="text-faded">at the next start</span> : <span className="text-faded">immediately</span>),
            },
          ]}
        />
      )}
      {settings && settings.settings.length > 0 && (
        <div className="pt-3">
          <Checkbox checked={all} onChange={setAll}>
            Show those that are as by default
          </Checkbox>
        </div>
      )}
    </Part>
  );
}

/** What is kept of what was said, and how to be rid of it. */
function Recorded({ settings }: { settings?: api.Settings }) {
  const [asking, setAsking] = useState(false);
  const purge = useAct(api.purge, { changes: ["exchange"], says: (p) => `The content of ${p.removed} exchanges is deleted.` });
  const on = settings?.settings.find((s) => s.name === "record.content")?.value === "true";
  return (
    <Part
      title="Recorded content"
      lead={on ? "What is said in exchanges is recorded, unless a key says no." : "What is said in exchanges is not recorded, unless a key says so."}
      action={<Button onClick={() => setAsking(true)}>Remove all that was said</Button>}
    >
      {asking && (
        <Confirm
          title="Remove all that was said?"
          description="The prompts and answers that were recorded go for good. The exchanges themselves stay in the ledger."
          act="Remove"
          onAct={() => purge.mutateAsync(undefined)}
          onClose={() => setAsking(false)}
        />
      )}
      {null}
    </Part>
  );
}
