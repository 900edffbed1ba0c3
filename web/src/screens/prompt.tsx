import { useEffect, useMemo, useState } from "react";
import * as api from "../api";
import { Button, Checkbox, Field, Heading, Problem, Select, TextArea } from "../design/controls";
import { useDraft } from "../drafts";
import { targetOptions, useTargets } from "../queries";
import { message } from "../words";
import { Pictures, readPictures, takesPictures } from "./pictures";

const begin: api.Turn[] = [
  { role: "system", content: "You are a cheerful harbour master." },
  { role: "user", content: "How long is the crossing to Wick Skerry?" },
];

export function PromptScreen() {
  const targets = useTargets().filter((t) => t.rendersHere);
  const [name, setName] = useDraft("prompt model", "");
  const [turns, setTurns] = useDraft("prompt turns", begin);
  const [think, setThink] = useDraft("prompt think", false);
  const [focus, setFocus] = useState<number>();
  const chosen = targets.find((t) => t.name === name) ?? targets[0];
  const [prompt, problem] = usePrompt(chosen?.name, turns, think && (chosen?.model?.template?.thinking ?? false));

  const change = (i: number, turn: Partial<api.Turn>) => setTurns(turns.map((t, j) => (i === j ? { ...t, ...turn } : t)));

  return (
    <section>
      <Heading title="Prompt" lead="What a model is really sent: the conversation as its own template lays it out, and where each part comes from." />
      <div className="grid gap-10 border-t border-rule pt-6 md:grid-cols-[minmax(0,5fr)_minmax(0,7fr)]">
        <div className="grid content-start gap-5">
          <Field label="Model" id="prompt-model">
            <Select value={chosen?.name ?? ""} onChange={setName} options={targetOptions(targets)} placeholder="none is installed" />
          </Field>
          {turns.map((t, i) => (
            <TurnEditor
              key={i}
              index={i}
              turn={t}
              tokens={prompt?.turns.find((t) => t.origin === `messages[${i}]`)?.tokens}
              marked={focus === i}
              sees={chosen?.model?.pictures}
              onChange={(turn) => change(i, turn)}
              onRemove={turns.length > 1 ? () => setTurns(turns.filter((_, j) => j !== i)) : undefined}
              onFocus={setFocus}
            />
          ))}
          <div className="flex flex-wrap items-center gap-4">
            <Button onClick={() => setTurns([...turns, { role: turns.at(-1)?.role === "user" ? "assistant" : "user", content: "" }])}>Add a turn</Button>
            {chosen?.model?.template?.thinking && (
              <Checkbox checked={think} onChange={setThink}>
                Reason first
              </Checkbox>
            )}
          </div>
        </div>
        <div className="grid content-start gap-4 border-l border-rule pl-6">
          {problem && <Problem>{problem}</Problem>}
          {prompt?.warnings.map((w) => <Problem key={w}>{w}</Problem>)}
          {prompt && <Laid prompt={prompt} focus={focus} onFocus={setFocus} />}
        </div>
      </div>
    </section>
  );
}

/** How long the keys must rest before a prompt is laid out anew, in milliseconds. */
const pause = 150;

/** The prompt that a conversation becomes, laid out anew at every change. An older answer never replaces a newer one. */
function usePrompt(model: string | undefined, turns: api.Turn[], think: boolean): [api.Prompt | undefined, string] {
  const [prompt, setPrompt] = useState<api.Prompt>();
  const [problem, setProblem] = useState("");
  useEffect(() => {
    if (!model) return;
    const abort = new AbortController();
    const lay = async () => {
      try {
        setPrompt(await api.renderPrompt(model, turns, think, abort.signal));
        setProblem("");
      } catch (e) {
        if (!abort.signal.aborted) setProblem(message(e));
      }
    };
    const timer = window.setTimeout(() => void lay(), pause);
    return () => {
      window.clearTimeout(timer);
      abort.abort();
    };
  }, [model, turns, think]);
  return [prompt, problem];
}

const roles = [{ value: "system" }, { value: "user" }, { value: "assistant" }];

function TurnEditor(props: {
  index: number;
  turn: api.Turn;
  tokens?: number;
  marked: boolean;
  sees?: api.Model["pictures"];
  onChange: (t: Partial<api.Turn>) => void;
  onRemove?: () => void;
  onFocus: (i?: number) => void;
}) {
  const { index, turn, sees } = props;
  const canSee = turn.role === "user" && !!sees && !sees.problem;
  const add = (files: File[]) => void readPictures(files).then((list) => props.onChange({ pictures: [...(turn.pictures ?? []), ...list] }));
  return (
    <div {...(canSee ? takesPictures(add) : {})} className={`grid gap-2 border-l-2 pl-3 ${props.marked ? "border-vermilion" : "border-rule"}`} onMouseEnter={() => props.onFocus(index)} onMouseLeave={() => props.onFocus()}>
      <div className="flex items-center gap-3">
        <Select label={`Role of turn ${index + 1}`} value={turn.role} onChange={(role) => props.onChange({ role: role as api.Turn["role"] })} options={roles} className="!h-8 !w-32 text-small" />
        <span className="tabular text-small whitespace-nowrap text-faded">{props.tokens === undefined ? "" : `${props.tokens} tokens`}</span>
        {props.onRemove && (
          <Button weight="quiet" className="ml-auto" aria-label={`Remove turn ${index + 1}`} onClick={props.onRemove}>
            Remove
          </Button>
        )}
      </div>
      <TextArea
        aria-label={`Text of turn ${index + 1}`}
        value={turn.content}
        onChange={(e) => props.onChange({ content: e.target.value })}
        onFocus={() => props.onFocus(index)}
        onBlur={() => props.onFocus()}
      />
      {canSee && <Pictures list={turn.pictures ?? []} change={(pictures) => props.onChange({ pictures })} add={add} said={sees.tokens ? `each is ${sees.tokens} tokens` : "tokens go by its size"} />}
    </div>
  );
}

/** A piece of the prompt as it is shown: text of one origin, cut at control tokens. */
type Piece = { text: string; turn?: number; control: boolean; title: string };

function pieces(p: api.Prompt): Piece[] {
  // Spans and tokens count bytes; a string of this language counts UTF-16 units.
  const bytes = new TextEncoder().encode(p.text);
  const decode = (from: number, to: number) => new TextDecoder().decode(bytes.subarray(from, to));
  const control = new Map(p.token_list.filter((t) => t.control).map((t) => [t.start, t.end]));
  const list: Piece[] = [];
  let shown = 0; // bytes
  for (const s of p.spans) {
    if (s.end <= shown) continue;
    const from = Math.max(s.start, shown);
    const turn = /^messages\[(\d+)\]/.exec(s.origin)?.[1];
    const origin = s.line ? `template, line ${s.line}` : s.origin;
    if (s.picture) {
      const of = s.picture;
      const text = `[picture, ${of.width} × ${of.height}, read as ${of.read_width} × ${of.read_height}: ${s.tokens} tokens]`;
      list.push({ text, turn: turn === undefined ? undefined : Number(turn), control: false, title: origin });
      shown = s.end;
      continue;
    }
    let plain = from;
    for (let at = from; at < s.end; at++) {
      const end = control.get(at);
      if (end === undefined) continue;
      if (plain < at) list.push({ text: decode(plain, at), turn: turn === undefined ? undefined : Number(turn), control: false, title: origin });
      list.push({ text: decode(at, end), control: true, title: `control token, ${origin}` });
      at = end - 1;
      plain = end;
    }
    if (plain < s.end) list.push({ text: decode(plain, s.end), turn: turn === undefined ? undefined : Number(turn), control: false, title: origin });
    shown = Math.max(s.end, plain);
  }
  return list;
}

function Laid({ prompt, focus, onFocus }: { prompt: api.Prompt; focus?: number; onFocus: (i?: number) => void }) {
  const list = useMemo(() => pieces(prompt), [prompt]);
  return (
    <>
      <p className="text-small text-faded">
        <span className="tabular text-ink" data-testid="prompt-tokens">
          {prompt.tokens}
        </span>{" "}
        of <span className="tabular">{prompt.context_length}</span> tokens. <span className="text-vermilion">Control tokens</span> and the template’s own text around{" "}
        <span className="text-moss">yours</span>.
      </p>
      <pre data-testid="prompt" className="font-mono text-small leading-7 whitespace-pre-wrap">
        {list.map((piece, i) => (
          <span
            key={i}
            title={piece.title}
            onMouseEnter={() => onFocus(piece.turn)}
            onMouseLeave={() => onFocus()}
            className={`${piece.control ? "text-vermilion" : piece.turn === undefined ? "text-faded" : "text-moss"} ${
              piece.turn !== undefined && piece.turn === focus ? "bg-wash" : ""
            }`}
          >
            {piece.text}
          </span>
        ))}
      </pre>
    </>
  );
}
