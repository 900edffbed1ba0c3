import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, CopyButton, Field, Heading, Problem, inputStyle } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useLoad } from "../load";
import { ago, count, message } from "../words";

export function KeysScreen() {
  const { data, error, reload } = useLoad(api.keys, 5000);
  const [issuing, setIssuing] = useState(false);
  const [revoking, setRevoking] = useState<api.Key>();
  const [warning, setWarning] = useState("");
  return (
    <section>
      <Heading
        title="Keys"
        lead="One for each application, so that you know who called and can shut one out without the others."
        action={
          <Button weight="primary" onClick={() => setIssuing(true)}>
            Issue a key
          </Button>
        }
      />
      {error && <Problem>{error.message}</Problem>}
      {warning && <Problem>{warning}</Problem>}
      {data && <KeyTable keys={data} onRevoke={setRevoking} />}
      {issuing && (
        <IssueDialog
          onClose={() => {
            setIssuing(false);
            void reload();
          }}
        />
      )}
      {revoking && (
        <Confirm
          title={`Revoke “${revoking.label}”?`}
          description="Requests with this key are refused from then on. This cannot be undone; the application will need another key."
          act="Revoke"
          onAct={async () => setWarning((await api.revokeKey(revoking.id)).warning ?? "")}
          onClose={() => {
            setRevoking(undefined);
            void reload();
          }}
        />
      )}
    </section>
  );
}

function KeyTable({ keys, onRevoke }: { keys: api.Key[]; onRevoke: (k: api.Key) => void }) {
  return (
    <div className="overflow-x-auto border-t border-rule">
      <table className="w-full text-left">
        <thead className="text-small text-faded">
          <tr>
            {["Label", "Key", "Models", "Limits", "Issued", "Last used", "Ends", ""].map((h) => (
              <th key={h} scope="col" className="py-2 pr-6 font-normal">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {keys.map((k) => (
            <tr key={k.id} className={`h-12 border-t border-rule ${k.revoked ? "text-faded" : ""}`}>
              <td className="pr-6 font-medium">{k.label}</td>
              <td className="tabular pr-6">{k.id}…</td>
              <td className="pr-6">{k.models.length ? k.models.join(", ") : "all"}</td>
              <td className="pr-6">{limits(k)}</td>
              <td className="pr-6 whitespace-nowrap">{ago(k.created)}</td>
              <td className="pr-6 whitespace-nowrap">{k.last_used ? ago(k.last_used) : "never"}</td>
              <td className="pr-6 whitespace-nowrap">{k.expires ? k.expires.slice(0, 10) : "never"}</td>
              <td className="text-right whitespace-nowrap">
                <KeyAction k={k} onRevoke={onRevoke} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** The limits that are met first, as a rule. */
function limits(k: api.Key) {
  const l = k.limits;
  const said = [
    [l.requests_per_minute, "requests a minute"],
    [l.requests_per_day, "requests a day"],
    [l.tokens_per_minute, "tokens a minute"],
    [l.tokens_per_day, "tokens a day"],
    [l.at_once, "at once"],
  ].flatMap(([n, unit]) => (n ? [`${count(Number(n))} ${unit}`] : []));
  return said.length ? said.join(", ") : "none";
}

/** Days after which a key ends. */
const lives = [
  ["", "never"],
  ["1", "after a day"],
  ["30", "after 30 days"],
  ["365", "after a year"],
] as const;

function KeyAction({ k, onRevoke }: { k: api.Key; onRevoke: (k: api.Key) => void }) {
  if (k.revoked) return <span className="text-small">revoked {ago(k.revoked)}</span>;
  if (k.owner) return <span className="text-small text-faded">manages the gate</span>;
  return (
    <Button weight="quiet" aria-label={`Revoke ${k.label}`} onClick={() => onRevoke(k)}>
      Revoke
    </Button>
  );
}

function IssueDialog({ onClose }: { onClose: () => void }) {
  const { data } = useLoad(api.models);
  const [label, setLabel] = useState("");
  const [models, setModels] = useState<string[]>([]);
  const [perMinute, setPerMinute] = useState("");
  const [perDay, setPerDay] = useState("");
  const [life, setLife] = useState("");
  const [issued, setIssued] = useState<api.IssuedKey>();
  const [problem, setProblem] = useState("");

  async function submit(e: FormEvent) {
    e.preventDefault();
    setProblem("");
    try {
      setIssued(
        await api.issueKey({
          label,
          models,
          limits: { requests_per_minute: Number(perMinute) || undefined, tokens_per_day: Number(perDay) || undefined },
          expires: life ? new Date(Date.now() + Number(life) * 86_400_000).toISOString() : null,
        }),
      );
    } catch (e) {
      setProblem(message(e));
    }
  }

  if (issued) {
    return (
      <Dialog open firm onClose={onClose} title="Copy the key now" description={`This is the key for “${issued.label}”. It is shown this once; the gate keeps only a hash of it.`}>
        <div className="flex items-center gap-3 border-y border-rule py-3">
          <code className="tabular min-w-0 break-all" data-testid="issued-key">
            {issued.key}
          </code>
          <CopyButton text={issued.key} what="the key" />
        </div>
        <div className="flex justify-end">
          <Button weight="primary" onClick={onClose}>
            I have it
          </Button>
        </div>
      </Dialog>
    );
  }
  const toggle = (id: string) => setModels((list) => (list.includes(id) ? list.filter((m) => m !== id) : [...list, id]));
  return (
    <Dialog open onClose={onClose} title="Issue a key" description="The label tells you later who called.">
      <form onSubmit={(e) => void submit(e)} className="grid gap-5">
        <Field label="Label" htmlFor="label">
          <input id="label" autoFocus maxLength={100} value={label} onChange={(e) => setLabel(e.target.value)} placeholder="timetable bot" className={`${inputStyle} h-9`} />
        </Field>
        <fieldset className="grid gap-1.5">
          <legend className="pb-1.5 text-small font-medium">Models it may use</legend>
          {data?.models
            .filter((m) => !m.problem)
            .map((m) => (
              <label key={m.id} className="flex items-center gap-2">
                <input type="checkbox" className="accent-vermilion" checked={models.includes(m.id)} onChange={() => toggle(m.id)} />
                {m.id}
              </label>
            ))}
          <p className="text-small text-faded">None chosen means all, those to come included.</p>
        </fieldset>
        <div className="grid gap-5 sm:grid-cols-3">
          <Field label="Requests a minute" htmlFor="per-minute">
            <input id="per-minute" type="number" min={1} value={perMinute} onChange={(e) => setPerMinute(e.target.value)} placeholder="no limit" className={`${inputStyle} tabular h-9`} />
          </Field>
          <Field label="Tokens a day" htmlFor="per-day">
            <input id="per-day" type="number" min={1} value={perDay} onChange={(e) => setPerDay(e.target.value)} placeholder="no limit" className={`${inputStyle} tabular h-9`} />
          </Field>
          <Field label="It ends" htmlFor="life">
            <select id="life" value={life} onChange={(e) => setLife(e.target.value)} className={`${inputStyle} h-9`}>
              {lives.map(([days, says]) => (
                <option key={days} value={days}>
                  {says}
                </option>
              ))}
            </select>
          </Field>
        </div>
        {problem && <Problem>{problem}</Problem>}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" disabled={!label.trim()}>
            Issue
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
