import { useState, type FormEvent } from "react";
import * as api from "../api";
import tables from "../tables.json";
import { Button, Checkbox, CopyButton, Empty, Field, Heading, Input, NumberInput, Part, Problem, Select, Skeleton } from "../design/controls";
import { Confirm, Dialog } from "../design/dialog";
import { Table } from "../design/table";
import { useAct, useGroups, useKey, useKeys, useTargets, useTools } from "../queries";
import { ago, count, day, span } from "../words";

export function KeysScreen() {
  const { data, error } = useKeys();
  const [issuing, setIssuing] = useState(false);
  const [opened, setOpened] = useState<string>();
  const [revoking, setRevoking] = useState<api.Key>();
  const [warning, setWarning] = useState("");
  const [shown, setShown] = useState(false);
  const revoke = useAct(api.revokeKey, { changes: ["keys"], says: (k) => `The key “${k.label}” is revoked.` });
  const list = data?.filter((k) => shown || !k.revoked);
  const revoked = (data?.length ?? 0) - (data?.filter((k) => !k.revoked).length ?? 0);
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
      {!data && !error && <Skeleton />}
      {list && (
        <Table
          label="Keys"
          rows={list}
          id={(k) => k.id}
          faded={(k) => !!k.revoked}
          columns={[
            { title: "Label", wide: "font-medium max-w-56 truncate", cell: (k) => k.label },
            { title: "Key", wide: "tabular", cell: (k) => `${k.id}…` },
            { title: "Group", wide: "max-w-40 truncate", hidden: !list.some((k) => k.group), cell: (k) => k.group },
            { title: "Models", wide: "max-w-56 truncate", cell: (k) => (k.models.length ? k.models.join(", ") : "all") },
            { title: "Limits", cell: (k) => limitsInShort(k) },
            { title: "Last used", wide: "whitespace-nowrap", cell: (k) => (k.last_used ? ago(k.last_used) : "never") },
            { title: "Expires", wide: "whitespace-nowrap", cell: (k) => (k.revoked ? `revoked ${ago(k.revoked)}` : k.expires ? day(new Date(k.expires)) : "never") },
            {
              title: "",
              wide: "text-right whitespace-nowrap",
              cell: (k) =>
                k.owner ? (
                  <span className="text-small text-faded">manages the gate</span>
                ) : k.revoked ? null : (
                  <span className="inline-flex gap-4">
                    <Button weight="quiet" aria-label={`Open ${k.label}`} onClick={() => setOpened(k.id)}>
                      Open
                    </Button>
                    <Button weight="quiet" aria-label={`Revoke ${k.label}`} onClick={() => setRevoking(k)}>
                      Revoke
                    </Button>
                  </span>
                ),
            },
          ]}
        />
      )}
      {revoked > 0 && (
        <div className="pt-3">
          <Checkbox checked={shown} onChange={setShown}>
            Show {revoked} revoked
          </Checkbox>
        </div>
      )}
      <Groups />
      {issuing && <IssueDialog onClose={() => setIssuing(false)} />}
      {opened && <KeyDialog id={opened} onClose={() => setOpened(undefined)} />}
      {revoking && (
        <Confirm
          title={`Revoke “${revoking.label}”?`}
          description="Requests with this key are refused from then on, and those in progress end. This cannot be undone; the application will need another key."
          act="Revoke"
          onAct={async () => setWarning((await revoke.mutateAsync(revoking.id)).warning ?? "")}
          onClose={() => setRevoking(undefined)}
        />
      )}
    </section>
  );
}

const limitFields = tables.limits as { name: keyof api.Limits; title: string; short: string; most?: number }[];

/** The limits that are met first, as a rule. */
function limitsInShort(k: { limits: api.Limits }) {
  const said = limitFields.flatMap(({ name, short }) => (k.limits[name] ? [`${count(Number(k.limits[name]))} ${short}`] : []));
  if (said.length === 0) return "none";
  return said.length > 2 ? `${said.slice(0, 2).join(", ")}, …` : said.join(", ");
}

/** What a key may, as a form has it. */
type Draft = { label: string; models: string[]; tools: string[]; group: string; limits: api.Limits; life: string; origins: string; addresses: string; mayIssue: boolean; keepAlive: boolean; record: "" | "yes" | "no" };

const empty: Draft = { label: "", models: [], tools: [], group: "", limits: {}, life: "never", origins: "", addresses: "", mayIssue: false, keepAlive: false, record: "" };

const draftOf = (k: api.Key): Draft => ({
  label: k.label,
  models: k.models,
  tools: k.tools,
  group: k.group ?? "",
  limits: k.limits,
  life: k.expires ? "as it is" : "never",
  origins: k.origins.join("\n"),
  addresses: k.addresses.join("\n"),
  mayIssue: k.may_issue ?? false,
  keepAlive: k.keep_alive ?? false,
  record: k.record_content ?? "",
});

const lines = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function termsOf(d: Draft): api.KeyTerms {
  const limits = Object.fromEntries(limitFields.map(({ name }) => [name, d.limits[name] ?? 0]));
  const terms: api.KeyTerms = {
    label: d.label,
    models: d.models,
    tools: d.tools,
    group: d.group,
    limits,
    origins: lines(d.origins),
    addresses: lines(d.addresses),
    may_issue: d.mayIssue,
    keep_alive: d.keepAlive,
    record_content: d.record,
  };
  if (d.life === "never") terms.expires = null;
  else if (d.life !== "as it is") terms.expires = new Date(Date.now() + Number(d.life) * 86_400_000).toISOString();
  return terms;
}

const lives = [
  { value: "never", label: "never" },
  { value: "1", label: "after a day" },
  { value: "30", label: "after 30 days" },
  { value: "365", label: "after a year" },
];

function TermsForm({ draft, set, ends, autoFocus }: { draft: Draft; set: (part: Partial<Draft>) => void; ends?: string; autoFocus?: boolean }) {
  const targets = useTargets(false);
  const groups = useGroups();
  const toggle = (id: string) => set({ models: draft.models.includes(id) ? draft.models.filter((m) => m !== id) : [...draft.models, id] });
  const usable = targets.map((t) => t.name);
  const offered = useTools().data?.servers.map((s) => s.name) ?? [];
  return (
    <>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Label" id="label">
          <Input autoFocus={autoFocus} maxLength={100} value={draft.label} onChange={(e) => set({ label: e.target.value })} placeholder="timetable bot" />
        </Field>
        <Field label="Expires" id="life">
          <Select value={draft.life} onChange={(life) => set({ life })} options={ends ? [{ value: "as it is", label: `on ${ends.slice(0, 10)}` }, ...lives] : lives} />
        </Field>
      </div>
      <fieldset className="grid gap-1.5">
        <legend className="pb-1 text-small font-medium">Models, presets and names it may use</legend>
        <div className="flex flex-wrap gap-x-6 gap-y-1">
          {[...new Set([...usable, ...draft.models])].map((m) => (
            <Checkbox key={m} checked={draft.models.includes(m)} onChange={() => toggle(m)}>
              {m}
            </Checkbox>
          ))}
        </div>
        <p className="text-small text-faded">None chosen means all, those to come included.</p>
      </fieldset>
      {(offered.length > 0 || draft.tools.length > 0) && (
        <fieldset className="grid gap-1.5">
          <legend className="pb-1 text-small font-medium">Tools that the gate runs for it</legend>
          <div className="flex flex-wrap gap-x-6 gap-y-1">
            {[...new Set([...offered, ...draft.tools])].map((name) => (
              <Checkbox key={name} checked={draft.tools.includes(name)} onChange={() => set({ tools: draft.tools.includes(name) ? draft.tools.filter((t) => t !== name) : [...draft.tools, name] })}>
                {name}
              </Checkbox>
            ))}
          </div>
          <p className="text-small text-faded">None chosen means none.</p>
        </fieldset>
      )}
      <fieldset>
        <legend className="pb-1.5 text-small font-medium">Limits</legend>
        <div className="grid gap-x-4 gap-y-3 sm:grid-cols-3">
          {limitFields.map(({ name, title, most }) => (
            <Field key={name} label={title} id={`limit-${name}`}>
              <NumberInput min={1} max={most} value={draft.limits[name] || undefined} onChange={(n) => set({ limits: { ...draft.limits, [name]: n } })} placeholder="no limit" />
            </Field>
          ))}
        </div>
      </fieldset>
      <details className="border-t border-rule pt-3">
        <summary className="cursor-pointer text-small font-medium">Where from, and what else</summary>
        <div className="grid gap-4 pt-3">
          <div className="grid gap-4 sm:grid-cols-2">
            <Field label="Group" id="group" help="Whose limits hold besides, for all its keys together.">
              <Select value={draft.group} onChange={(group) => set({ group })} options={[{ value: "", label: "none" }, ...(groups.data?.map((g) => ({ value: g.name })) ?? [])]} />
            </Field>
            <Field label="Content of its exchanges" id="record">
              <Select
                value={draft.record}
                onChange={(record) => set({ record: record as Draft["record"] })}
                options={[
                  { value: "", label: "is recorded as the settings say" },
                  { value: "yes", label: "is recorded" },
                  { value: "no", label: "is never recorded" },
                ]}
              />
            </Field>
            <Field label="Addresses it may come from" id="addresses" help="Single ones, or ranges such as 192.0.2.0/24. None means all.">
              <Input value={draft.addresses} onChange={(e) => set({ addresses: e.target.value })} className="tabular" />
            </Field>
            <Field label="Pages that may use it" id="origins" help="Origins such as https://app.example.">
              <Input value={draft.origins} onChange={(e) => set({ origins: e.target.value })} className="tabular" />
            </Field>
          </div>
          <Checkbox checked={draft.mayIssue} onChange={(mayIssue) => set({ mayIssue })}>
            It can create keys, with at most its own rights, that expire within a day
          </Checkbox>
          <Checkbox checked={draft.keepAlive} onChange={(keepAlive) => set({ keepAlive })}>
            Whole answers begin with white space as soon as the first token is there, for clients that give up on silence
          </Checkbox>
        </div>
      </details>
    </>
  );
}

function IssueDialog({ onClose }: { onClose: () => void }) {
  const [draft, setDraft] = useState(empty);
  const issue = useAct(api.issueKey, { changes: ["keys"] });
  function submit(e: FormEvent) {
    e.preventDefault();
    if (!issue.isPending) issue.mutate(termsOf(draft));
  }
  if (issue.data) return <SecretDialog issued={issue.data} onClose={onClose} />;
  return (
    <Dialog open wide onClose={onClose} title="Issue a key" description="The label tells you later who called.">
      <form onSubmit={submit} className="grid gap-5">
        <TermsForm draft={draft} set={(part) => setDraft({ ...draft, ...part })} autoFocus />
        {issue.error && <Problem>{issue.error.message}</Problem>}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" busy={issue.isPending} disabled={!draft.label.trim()}>
            Issue
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function SecretDialog({ issued, onClose, more }: { issued: api.IssuedKey; onClose: () => void; more?: string }) {
  return (
    <Dialog open firm onClose={onClose} title="Copy the key now" description={`This is the key for “${issued.label}”. It is shown this once; the gate keeps only a hash of it. ${more ?? ""}`}>
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

/** A key, with what is left of its limits, and its terms to be changed. */
function KeyDialog({ id, onClose }: { id: string; onClose: () => void }) {
  const { data, error } = useKey(id);
  const [draft, setDraft] = useState<Draft>();
  const change = useAct(api.changeKey, { changes: ["keys"], says: (k) => `The key “${k.label}” is changed.` });
  const rotate = useAct(api.rotateKey, { changes: ["keys"] });
  if (rotate.data) return <SecretDialog issued={rotate.data} onClose={onClose} more="The old one works for another day." />;
  const now = draft ?? (data && draftOf(data));
  function submit(e: FormEvent) {
    e.preventDefault();
    if (now && !change.isPending) change.mutate({ id, terms: termsOf(now) }, { onSuccess: onClose });
  }
  return (
    <Dialog open wide onClose={onClose} title={data?.label ?? "A key"} description={data ? `${data.id}…, issued ${ago(data.created)}, last used ${data.last_used ? ago(data.last_used) : "never"}.` : "Asking the gate…"}>
      {error && <Problem>{error.message}</Problem>}
      {!data && !error && <Skeleton />}
      {data && data.standing.length > 0 && (
        <ul className="grid gap-2" aria-label="What is left of its limits">
          {data.standing.map((s) => (
            <li key={s.what + (s.model ?? "")} className="grid items-center gap-x-4 sm:grid-cols-[14rem_1fr_auto]">
              <span>
                {s.what}
                {s.model && ` with ${s.model}`}
              </span>
              <span aria-hidden className="h-2 overflow-hidden rounded-control bg-wash">
                <span className="block h-full bg-moss" style={{ width: `${(100 * s.remaining) / s.limit}%` }} />
              </span>
              <span className="tabular text-small text-faded">
                {s.what === "cost a month" ? `${(s.remaining / 1e6).toFixed(2)} of ${(s.limit / 1e6).toFixed(2)}` : `${s.remaining} of ${s.limit}`} left{s.reset_seconds > 0 && `, whole again in ${span(s.reset_seconds)}`}
              </span>
            </li>
          ))}
        </ul>
      )}
      {now && data && (
        <form onSubmit={submit} className="grid gap-5">
          <TermsForm draft={now} set={(part) => setDraft({ ...now, ...part })} ends={data.expires ?? undefined} />
          {(change.error ?? rotate.error) && <Problem>{(change.error ?? rotate.error)?.message}</Problem>}
          <div className="flex flex-wrap justify-between gap-3">
            <Button busy={rotate.isPending} onClick={() => rotate.mutate({ id, hours: 24 })}>
              Issue another in its place
            </Button>
            <span className="flex gap-3">
              <Button onClick={onClose}>Cancel</Button>
              <Button type="submit" weight="primary" busy={change.isPending} disabled={!draft || !now.label.trim()}>
                Change
              </Button>
            </span>
          </div>
        </form>
      )}
    </Dialog>
  );
}

function Groups() {
  const { data, error } = useGroups();
  const [editing, setEditing] = useState<{ name: string; limits: api.Limits } | "new">();
  const [removing, setRemoving] = useState<string>();
  const remove = useAct(api.removeGroup, { changes: ["groups"], says: (_, name) => `The group “${name}” is removed.` });
  return (
    <Part title="Groups" lead="What the keys of a group use is counted together." action={<Button onClick={() => setEditing("new")}>Add a group</Button>}>
      {error && <Problem>{error.message}</Problem>}
      {data?.length === 0 && <Empty>There is none yet. A group is for keys that share a limit, such as those of a team.</Empty>}
      {data?.map((g) => (
        <div key={g.name} className="grid items-center gap-x-6 gap-y-1 border-t border-rule py-3 md:grid-cols-[12rem_minmax(0,1fr)_auto]">
          <span className="font-medium">{g.name}</span>
          <span>{g.standing.length ? g.standing.map((s) => `${s.remaining} of ${s.limit} ${s.what} left`).join(", ") : "no limits in time"}</span>
          <span className="flex gap-5 md:justify-end">
            <Button weight="quiet" aria-label={`Change group ${g.name}`} onClick={() => setEditing(g)}>
              Change
            </Button>
            <Button weight="quiet" aria-label={`Remove group ${g.name}`} onClick={() => setRemoving(g.name)}>
              Remove
            </Button>
          </span>
        </div>
      ))}
      {editing && <GroupDialog group={editing === "new" ? undefined : editing} onClose={() => setEditing(undefined)} />}
      {removing && (
        <Confirm title={`Remove “${removing}”?`} description="No valid key may belong to it." act="Remove" onAct={() => remove.mutateAsync(removing)} onClose={() => setRemoving(undefined)} />
      )}
    </Part>
  );
}

function GroupDialog({ group, onClose }: { group?: { name: string; limits: api.Limits }; onClose: () => void }) {
  const [name, setName] = useState(group?.name ?? "");
  const [limits, setLimits] = useState<api.Limits>(group?.limits ?? {});
  const save = useAct(api.setGroup, { changes: ["groups", "keys"], says: (g) => `The group “${g.name}” is ${group ? "changed" : "added"}.` });
  function submit(e: FormEvent) {
    e.preventDefault();
    if (!save.isPending) save.mutate({ name: name.trim(), limits }, { onSuccess: onClose });
  }
  return (
    <Dialog open wide onClose={onClose} title={group ? `Change “${group.name}”` : "Add a group"} description="The limits hold for all its keys together, besides those that each has by itself.">
      <form onSubmit={submit} className="grid gap-5">
        {!group && (
          <Field label="Name" id="group-name">
            <Input autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder="harbour office" />
          </Field>
        )}
        <div className="grid gap-x-4 gap-y-3 sm:grid-cols-3">
          {limitFields.map(({ name: field, title }) => (
            <Field key={field} label={title} id={`group-${field}`}>
              <NumberInput min={1} value={limits[field] || undefined} onChange={(n) => setLimits({ ...limits, [field]: n })} placeholder="no limit" />
            </Field>
          ))}
        </div>
        {save.error && <Problem>{save.error.message}</Problem>}
        <div className="flex justify-end gap-3">
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" weight="primary" busy={save.isPending} disabled={!name.trim()}>
            {group ? "Change" : "Add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
