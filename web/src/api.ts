// What the console asks of the gate. It uses the HTTP interface and nothing else.

import type { components } from "./contract";

// The types are the contract's, api/openapi.yaml.
type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type Model = Schemas["InstalledModel"];
export type Addition = Schemas["ModelAddition"];
export type Removed = Schemas["RemovedModel"];
export type Key = Schemas["Key"];
export type OwnKey = Schemas["OwnKey"];
type RevokedKey = Schemas["RevokedKey"];
export type RotatedKey = Schemas["RotatedKey"];
export type Limits = Schemas["Limits"];
export type Group = Schemas["GroupList"]["groups"][number];
export type Name = Schemas["Name"];
export type Machine = Schemas["Machine"];
export type Gate = Schemas["GateState"];
export type Invitation = Schemas["Invitation"];
export type Tool = Schemas["Tool"];
export type ToolServer = Schemas["ToolServer"];
export type Replay = Schemas["Replay"];
export type SuiteReport = Schemas["SuiteReport"];
/** What is to be another way in a replay. */
export type Change = { model?: string; style?: "chat" | "generate" | "completion"; instructions?: string; template?: string; temperature?: number; seed?: number };
export type Settings = Schemas["Settings"];
export type Finding = Schemas["Finding"];
export type Now = Schemas["Now"];
export type Job = Schemas["Job"];
export type Refusal = Schemas["Refusal"];
export type CostList = Schemas["CostList"];
export type ShownExchange = Schemas["ShownExchange"];
export type KeyTerms = Schemas["KeyTerms"];
export type Exchange = Schemas["Exchange"];
/** The parameters that choose exchanges, by their names in the contract; those that are empty choose nothing. */
export const filterNames = ["key", "model", "style", "job", "since", "until", "bad", "slow_ms"] as const;
export type Filter = Partial<Record<(typeof filterNames)[number], string>>;
export type IssuedKey = Schemas["IssuedKey"];
export type Preset = Schemas["Preset"] & { name: string };
export type Prompt = Schemas["RenderedPrompt"];
export type Span = Prompt["spans"][number];
/** A turn as it is edited; its pictures, as data URLs with names, come before its text. */
export type Turn = { role: "system" | "user" | "assistant"; content: string; pictures?: { name: string; url: string }[] };

/** An answer of the gate that is an error. */
export class GateError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
  ) {
    super(message);
  }
}

async function send(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  let response: Response;
  try {
    // Without its slash a path is below the page, whatever prefix a proxy has put before that.
    response = await fetch(path.replace(/^\//, ""), {
      method,
      signal,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (e) {
    if (signal?.aborted) throw e;
    throw new GateError(0, "unreachable", "The gate is unreachable. Is it still running?");
  }
  if (response.ok) return response;
  const answer = (await response.json().catch(() => null)) as { error?: { message: string; code: string } } | null;
  throw new GateError(response.status, answer?.error?.code ?? "", answer?.error?.message ?? `The gate answered ${response.status}.`);
}

async function json<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  return (await (await send(method, path, body, signal)).json()) as T;
}

export const status = () => json<Status>("GET", "/gate/status");
export const models = () => json<{ models: Model[]; problem?: string }>("GET", "/gate/models");
export const loadModel = (id: string) => json<Model>("POST", `/gate/models/${encodeURIComponent(id)}/load`, {});
export const unloadModel = (id: string) => json<Model>("POST", `/gate/models/${encodeURIComponent(id)}/unload`, {});
export const tryRemoveModel = (id: string) => json<Removed>("DELETE", `/gate/models/${encodeURIComponent(id)}?try=true`);
export const removeModel = (id: string) => json<Removed>("DELETE", `/gate/models/${encodeURIComponent(id)}`);

/** Adds a model, and tells how far that has come. */
export async function addModel(request: Schemas["AddModel"], signal: AbortSignal, told: (progress: Addition) => void): Promise<Model> {
  for await (const { data } of events("/gate/models", request, signal)) {
    if (data === undefined || data === "[DONE]") continue;
    const event = JSON.parse(data) as Addition & { error?: { message: string; code: string } };
    if (event.error) throw new GateError(200, event.error.code, event.error.message);
    if (event.model) return event.model;
    told(event);
  }
  throw new GateError(0, "broken_off", "The gate's answer ended without a model.");
}

export const presets = async () => (await json<{ presets: Preset[] }>("GET", "/gate/presets")).presets;
export const addPreset = (p: Preset) => json<Preset>("POST", "/gate/presets", p);
export const changePreset = (p: Preset) => json<Preset>("PUT", `/gate/presets/${encodeURIComponent(p.name)}`, p);
export const removePreset = (name: string) => send("DELETE", `/gate/presets/${encodeURIComponent(name)}`);

export const keys = async () => (await json<{ keys: Key[] }>("GET", "/gate/keys")).keys;
export const key = (id: string) => json<OwnKey>("GET", `/gate/keys/${encodeURIComponent(id)}`);
export const changeKey = ({ id, terms }: { id: string; terms: KeyTerms }) => json<Key>("PATCH", `/gate/keys/${encodeURIComponent(id)}`, terms);
export const rotateKey = ({ id, hours }: { id: string; hours: number }) => json<RotatedKey>("POST", `/gate/keys/${encodeURIComponent(id)}/rotate`, { grace_seconds: Math.round(hours * 3600) });
export const groups = async () => (await json<Schemas["GroupList"]>("GET", "/gate/groups")).groups;
export const setGroup = (g: { name: string; limits: Limits }) => json<Schemas["Group"]>("PUT", "/gate/groups", g);
export const removeGroup = (name: string) => send("DELETE", `/gate/groups?name=${encodeURIComponent(name)}`);
export const names = async () => (await json<{ names: Name[] }>("GET", "/gate/names")).names;
export const setName = (n: Name) => json<Name>("PUT", "/gate/names", n);
export const removeName = (name: string) => send("DELETE", `/gate/names?name=${encodeURIComponent(name)}`);
export const machines = async () => (await json<{ machines: Machine[] }>("GET", "/gate/machines")).machines;
export const inviteMachine = (i: { name: string; valid: string }) => json<Invitation>("POST", "/gate/machines", i);
export const revokeMachine = (name: string) => send("DELETE", `/gate/machines/${encodeURIComponent(name)}`);
export const gates = async () => (await json<{ gates: Gate[] }>("GET", "/gate/gates")).gates;
export const lookAtMachine = (name: string) => json<Machine>("POST", `/gate/machines/${encodeURIComponent(name)}/look`, {});
export const probeMachine = (name: string) => json<Machine>("POST", `/gate/machines/${encodeURIComponent(name)}/probe`, {});
export const tools = () => json<Schemas["ToolList"]>("GET", "/gate/tools");
export const checkTools = () => json<Schemas["ToolList"]>("GET", "/gate/tools?check=true");
export const tryTool = (call: { server: string; name: string; arguments: object }) => json<Schemas["ToolTried"]>("POST", "/gate/tools/try", call);
export const approvals = async () => (await json<{ approvals: Schemas["Approval"][] }>("GET", "/gate/approvals")).approvals;
export const decide = ({ id, approve }: { id: string; approve: boolean }) => json<{ approve: boolean }>("POST", `/gate/approvals/${encodeURIComponent(id)}`, { approve });
export const replay = ({ id, change }: { id: string; change: Change }) => json<Replay>("POST", `/gate/exchanges/${encodeURIComponent(id)}/replay`, change);
export const suites = async () => (await json<{ runs: SuiteReport[] }>("GET", "/gate/suites")).runs;

/** Runs a suite, and tells how far that has come. */
export async function runSuite(request: { suite?: string; pictures?: Record<string, string>; models: string[]; samples?: number }, signal: AbortSignal, told: (event: { done?: number; all?: number }) => void): Promise<SuiteReport> {
  for await (const { data } of events("/gate/suites/run", request, signal)) {
    if (data === undefined || data === "[DONE]") continue;
    const event = JSON.parse(data) as { done?: number; all?: number; report?: SuiteReport; error?: { message: string; code: string } };
    if (event.error) throw new GateError(200, event.error.code, event.error.message);
    if (event.report) return event.report;
    told(event);
  }
  throw new GateError(0, "broken_off", "The gate's answer ended without a report.");
}

export const settings = () => json<Settings>("GET", "/gate/settings");
export const check = async () => (await json<Schemas["CheckList"]>("GET", "/gate/check")).findings;
export const now = () => json<Now>("GET", "/gate/now");
export const jobs = async () => (await json<Schemas["JobList"]>("GET", "/gate/jobs")).jobs;
export const refusals = async () => (await json<Schemas["RefusalList"]>("GET", "/gate/refusals")).refusals;
export const costs = (month: string) => json<CostList>("GET", `/gate/costs?month=${month}`);
export const exchange = (id: string) => json<ShownExchange>("GET", `/gate/exchanges/${encodeURIComponent(id)}`);
export const purge = () => json<{ removed: number }>("DELETE", "/gate/contents");
export const issueKey = (terms: KeyTerms) => json<IssuedKey>("POST", "/gate/keys", terms);
export const exchanges = (filter: Filter, before?: string, limit = pageLength, since?: string) => {
  const query = new URLSearchParams({ limit: String(limit) });
  for (const name of filterNames) if (filter[name]) query.set(name, filter[name]);
  if (since) query.set("since", since);
  if (before) query.set("before", before);
  return json<Schemas["ExchangeList"]>("GET", `/gate/exchanges?${query}`);
};
/** How many exchanges a page of the ledger has. */
export const pageLength = 50;
export const revokeKey = (id: string) => json<RevokedKey>("DELETE", `/gate/keys/${encodeURIComponent(id)}`);
export const signIn = (key: string) => send("POST", "/gate/session", { key });
export const signOut = () => send("DELETE", "/gate/session");

const turnOf = ({ role, content, pictures }: Turn) => ({
  role,
  content: pictures?.length ? [...pictures.map((p) => ({ type: "image_url", image_url: { url: p.url } })), { type: "text", text: content }] : content,
});

export const renderPrompt = (model: string, messages: Turn[], think: boolean, signal: AbortSignal) =>
  json<Prompt>("POST", "/gate/prompt/render", { model, messages: messages.map(turnOf), reasoning_effort: think ? "medium" : undefined }, signal);

export const snippet = async (style: string, language: string, request: object, signal: AbortSignal) =>
  (await json<{ text: string }>("POST", "/gate/snippet", { style, language, request }, signal)).text;

/** Sends a request whose answer is a stream, and gives its events as they come, as they are. */
export async function* events(path: string, body: object, signal: AbortSignal): AsyncGenerator<{ line: string; data?: string; timing: string }> {
  const response = await send("POST", path, body, signal);
  const timing = response.headers.get("Server-Timing") ?? "";
  for await (const line of lines(response)) {
    if (line === "") continue;
    const data = line.startsWith("data: ") ? line.slice("data: ".length) : undefined;
    yield { line, data, timing };
    if (data === "[DONE]") return;
  }
  throw new GateError(0, "broken_off", "The answer broke off before its end.");
}

async function* lines(response: Response): AsyncGenerator<string> {
  if (!response.body) return;
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) break;
    const parts = (rest + value).split("\n");
    rest = parts.pop() ?? "";
    yield* parts;
  }
  if (rest) yield rest;
}
