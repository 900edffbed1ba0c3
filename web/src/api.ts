// What the console asks of the gate. It uses the HTTP interface and nothing else.

export type Status = { version: string; base_url: string; started: string; access: "keys" | "open"; folders: string[] };

export type Model = {
  id: string;
  path: string;
  use?: "chat" | "completion" | "embedding";
  architecture?: string;
  description?: string;
  license?: string;
  parameters?: number;
  weights?: string;
  size: number;
  context_length?: number;
  vocabulary?: number;
  tokenizer?: string;
  problem?: string;
  template?: { system: boolean; tools: boolean; tool_calls: boolean; parallel_calls: boolean; tool_results: boolean; thinking: boolean };
  defaults: { temperature?: number; top_p?: number; top_k?: number };
  loaded: boolean;
};

export type Key = {
  id: string;
  label: string;
  owner: boolean;
  models: string[];
  created: string;
  last_used: string | null;
  revoked: string | null;
};

export type IssuedKey = Key & { key: string };

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
    response = await fetch(path, {
      method,
      signal,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (e) {
    if (signal?.aborted) throw e;
    throw new GateError(0, "unreachable", "The gate does not answer. Is it still running?");
  }
  if (response.ok) return response;
  const answer = (await response.json().catch(() => null)) as { error?: { message: string; code: string } } | null;
  throw new GateError(response.status, answer?.error?.code ?? "", answer?.error?.message ?? `The gate answered ${response.status}.`);
}

async function json<T>(method: string, path: string, body?: unknown): Promise<T> {
  return (await (await send(method, path, body)).json()) as T;
}

export const status = () => json<Status>("GET", "/gate/status");
export const models = () => json<{ models: Model[]; problem?: string }>("GET", "/gate/models");
export type Preset = {
  name: string;
  model: string;
  instructions?: string;
  examples?: { role: "user" | "assistant"; content: string }[];
  template?: string;
  temperature?: number;
  top_p?: number;
  top_k?: number;
};

export const presets = async () => (await json<{ presets: Preset[] }>("GET", "/gate/presets")).presets;
export const addPreset = (p: Preset) => json<Preset>("POST", "/gate/presets", p);
export const changePreset = (p: Preset) => json<Preset>("PUT", `/gate/presets/${encodeURIComponent(p.name)}`, p);
export const forgetPreset = (name: string) => send("DELETE", `/gate/presets/${encodeURIComponent(name)}`);

export const keys = async () => (await json<{ keys: Key[] }>("GET", "/gate/keys")).keys;
export const issueKey = (label: string, models: string[]) => json<IssuedKey>("POST", "/gate/keys", { label, models });
export const revokeKey = (id: string) => json<Key>("DELETE", `/gate/keys/${encodeURIComponent(id)}`);
export const signIn = (key: string) => send("POST", "/gate/session", { key });
export const signOut = () => send("DELETE", "/gate/session");

export type Turn = { role: "system" | "user" | "assistant"; content: string };
export type Span = { start: number; end: number; origin: string; line?: number; tokens: number };
export type Prompt = {
  model: string;
  text: string;
  tokens: number;
  context_length: number;
  spans: Span[];
  turns: { role: string; tokens: number }[];
  warnings: string[];
  token_list: { id: number; start: number; end: number; control?: boolean }[];
};

export const renderPrompt = (model: string, messages: Turn[], think: boolean) =>
  json<Prompt>("POST", "/gate/prompt/render", { model, messages, reasoning_effort: think ? "medium" : undefined });

export type Question = { model: string; instructions: string; question: string; temperature?: number; maxTokens?: number; think: boolean };
export type Ending = { reason: string; promptTokens: number; completionTokens: number; timing: string };

type Chunk = {
  choices: { delta: { content?: string; reasoning_content?: string }; finish_reason: string | null }[];
  usage?: { prompt_tokens: number; completion_tokens: number };
  error?: { message: string; code: string };
};

/** Asks in the chat style and hands over text and reasoning as they come. */
export async function ask(q: Question, onText: (text: string, reasoning: string) => void, signal: AbortSignal): Promise<Ending> {
  const messages = [{ role: "user", content: q.question }];
  if (q.instructions) messages.unshift({ role: "system", content: q.instructions });
  const response = await send(
    "POST",
    "/v1/chat/completions",
    { model: q.model, messages, stream: true, stream_options: { include_usage: true }, temperature: q.temperature, max_tokens: q.maxTokens, reasoning_effort: q.think ? "medium" : undefined },
    signal,
  );
  const ending: Ending = { reason: "", promptTokens: 0, completionTokens: 0, timing: response.headers.get("Server-Timing") ?? "" };
  for await (const line of lines(response)) {
    if (!line.startsWith("data: ")) continue;
    const data = line.slice("data: ".length);
    if (data === "[DONE]") return ending;
    const chunk = JSON.parse(data) as Chunk;
    if (chunk.error) throw new GateError(0, chunk.error.code, chunk.error.message);
    for (const choice of chunk.choices) {
      onText(choice.delta.content ?? "", choice.delta.reasoning_content ?? "");
      if (choice.finish_reason) ending.reason = choice.finish_reason;
    }
    if (chunk.usage) {
      ending.promptTokens = chunk.usage.prompt_tokens;
      ending.completionTokens = chunk.usage.completion_tokens;
    }
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
