// The styles in which the same question can be put.
import * as api from "./api";
import type { components } from "./contract";

type Schemas = components["schemas"];

export type Question = { model: string; instructions: string; text: string; temperature?: number; maxTokens?: number; think: boolean; pictures?: string[]; tools?: string[]; unasked?: boolean; goesOn?: { previous: string; approvals: { id: string; approve: boolean }[] } };
export type Ending = { reason: string; promptTokens: number; completionTokens: number; timing: string };
/** A call of a tool that the gate runs: it runs until it has an output or an error, or waits for an approval. */
export type Run = { id: string; name: string; arguments: string; output?: string; error?: string; waits?: boolean };

/** What an event adds: text, reasoning, or what is known at the end. */
export type Increment = { run?: Run; response?: string; text?: string; reasoning?: string; reason?: string; promptTokens?: number; completionTokens?: number; problem?: string };

export type Style = {
  name: "chat" | "generate" | "response" | "completion";
  title: string;
  path: string;
  lead: string;
  /** The request, without what makes it a stream. */
  body: (q: Question) => object;
  /** What makes it a stream. */
  streaming: object;
  read: (event: unknown) => Increment;
};

/** The call that an item is; undefined for others. */
function runOf(item?: Schemas["OutputItem"]): Run | undefined {
  if (item?.type === "mcp_approval_request") return { id: item.id, name: `${item.server_label}/${item.name}`, arguments: item.arguments, waits: true };
  if (item?.type !== "mcp_call") return undefined;
  const error = item.error ? ((JSON.parse(item.error) as { message?: string }).message ?? item.error) : undefined;
  return { id: item.id, name: `${item.server_label}/${item.name}`, arguments: item.arguments, output: item.output ?? undefined, error };
}

/** The content of a question: a text, or a list of parts if there are pictures. */
const withPictures = (q: Question, picture: (url: string) => object, text: string) => (q.pictures?.length ? [...q.pictures.map(picture), { type: text, text: q.text }] : q.text);

const effort = (q: Question) => (q.think ? "medium" : undefined);
const orNothing = (s: string) => (s === "" ? undefined : s);
const usage = (u?: Schemas["Usage"]) => (u ? { promptTokens: u.prompt_tokens, completionTokens: u.completion_tokens } : {});

export const styles: Style[] = [
  {
    name: "chat",
    title: "Chat",
    path: "/v1/chat/completions",
    lead: "A conversation, rendered by the model's template.",
    body: (q) => ({
      model: q.model,
      messages: [...(q.instructions ? [{ role: "system", content: q.instructions }] : []), { role: "user", content: withPictures(q, (url) => ({ type: "image_url", image_url: { url } }), "text") }],
      temperature: q.temperature,
      max_tokens: q.maxTokens,
      reasoning_effort: effort(q),
    }),
    streaming: { stream: true, stream_options: { include_usage: true } },
    read: (event) => {
      const chunk = event as Schemas["ChatChunk"];
      const choice = chunk.choices[0];
      return { text: choice?.delta.content ?? choice?.delta.refusal, reasoning: choice?.delta.reasoning_content, reason: choice?.finish_reason ?? undefined, ...usage(chunk.usage) };
    },
  },
  {
    name: "generate",
    title: "Generate",
    path: "/v1/generate",
    lead: "One prompt in, one text out, for automation tools.",
    body: (q) => ({
      model: q.model,
      prompt: q.text,
      instructions: orNothing(q.instructions),
      temperature: q.temperature,
      max_tokens: q.maxTokens,
      reasoning: q.think || undefined,
    }),
    streaming: { stream: true },
    read: (event) => {
      const piece = event as Schemas["GenerationPiece"] | Schemas["Generation"];
      if (piece.object === "generation") {
        return { reason: piece.finish_reason, promptTokens: piece.usage.prompt_tokens, completionTokens: piece.usage.completion_tokens };
      }
      return { text: piece.text, reasoning: piece.reasoning };
    },
  },
  {
    name: "response",
    title: "Response",
    path: "/v1/responses",
    lead: "Items in, items out, with an event for every step.",
    body: (q) => ({
      model: q.model,
      input: q.goesOn ? q.goesOn.approvals.map((a) => ({ type: "mcp_approval_response", approval_request_id: a.id, approve: a.approve })) : q.pictures?.length ? [{ role: "user", content: withPictures(q, (url) => ({ type: "input_image", image_url: url }), "input_text") }] : q.text,
      previous_response_id: q.goesOn?.previous,
      tools: q.tools?.length ? q.tools.map((name) => ({ type: "mcp", server_label: name, require_approval: q.unasked ? "never" : { never: { read_only: true } } })) : undefined,
      instructions: orNothing(q.instructions),
      temperature: q.temperature,
      max_output_tokens: q.maxTokens,
      reasoning: q.think ? { effort: effort(q) } : undefined,
    }),
    streaming: { stream: true, store: false },
    read: (event) => {
      const e = event as Schemas["ResponseEvent"];
      switch (e.type) {
        case "response.output_text.delta":
        case "response.refusal.delta":
          return { text: e.delta };
        case "response.reasoning_text.delta":
          return { reasoning: e.delta };
        case "response.output_item.added":
        case "response.output_item.done":
          return { run: runOf(e.item) };
        case "response.completed":
        case "response.incomplete":
          return {
            response: e.response?.id,
            reason: e.type === "response.completed" ? "stop" : e.response?.incomplete_details?.reason === "content_filter" ? "content_filter" : "length",
            promptTokens: e.response?.usage?.input_tokens,
            completionTokens: e.response?.usage?.output_tokens,
          };
        case "response.failed":
          return { problem: e.response?.error?.message ?? "The response failed." };
      }
      return {};
    },
  },
  {
    name: "completion",
    title: "Completion",
    path: "/v1/completions",
    lead: "The text goes to the model as it is; no template, no instructions.",
    body: (q) => ({ model: q.model, prompt: q.text, temperature: q.temperature, max_tokens: q.maxTokens ?? 256 }),
    streaming: { stream: true, stream_options: { include_usage: true } },
    read: (event) => {
      const piece = event as Schemas["Completion"];
      const choice = piece.choices[0];
      return { text: choice?.text, reason: choice?.finish_reason ?? undefined, ...usage(piece.usage) };
    },
  },
];

/** Asks in a style, and hands over every line of the stream with what it adds. */
export async function ask(style: Style, q: Question, onLine: (line: string, added: Increment) => void, signal: AbortSignal): Promise<Ending> {
  const ending: Ending = { reason: "", promptTokens: 0, completionTokens: 0, timing: "" };
  for await (const { line, data, timing } of api.events(style.path, { ...style.body(q), ...style.streaming, ...(q.tools?.length ? { store: true } : {}) }, signal)) {
    ending.timing = timing;
    let added: Increment = {};
    if (data !== undefined && data !== "[DONE]") {
      const event = JSON.parse(data) as { type?: string; message?: string; error?: { message: string; code: string } };
      const error = event.type === "error" ? { code: "", message: event.message ?? "" } : event.error;
      if (error) throw new api.GateError(0, error.code, error.message);
      added = style.read(event);
    }
    onLine(line, added);
    if (added.problem) throw new api.GateError(0, "failed", added.problem);
    ending.reason = added.reason ?? ending.reason;
    ending.promptTokens = added.promptTokens ?? ending.promptTokens;
    ending.completionTokens = added.completionTokens ?? ending.completionTokens;
  }
  return ending;
}
