import { useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, CopyButton, Field, Heading, Problem, inputStyle } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { useLoad } from "../load";
import { ago, message } from "../words";

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
            {["Label", "Key", "Models", "Issued", "Last used", ""].map((h) => (
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
              <td className="pr-6 whitespace-nowrap">{ago(k.created)}</td>
              <td className="pr-6 whitespace-nowrap">{k.last_used ? ago(k.last_used) : "never"}</td>
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
  const [issued, setIssued] = useState<api.IssuedKey>();
  const [problem, setProblem] = useState("");

  async function submit(e: FormEvent) {
    e.preventDefault();
    setProblem("");
    try {
      setIssued(await api.issueKey(label, models));
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
