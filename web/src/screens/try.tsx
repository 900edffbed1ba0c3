import { useEffect, useRef, useState, type FormEvent, type KeyboardEvent } from "react";
import * as api from "../api";
import { Button, CopyButton, Field, Heading, Problem, inputStyle } from "../design/controls";
import { useLoad } from "../load";
import { message } from "../words";

type Answer = { text: string; reasoning: string; running: boolean; ending?: api.Ending; problem?: string; milliseconds?: number };

const number = (s: string) => (s.trim() === "" ? undefined : Number(s));

export function TryScreen() {
  const { data } = useLoad(api.models, 5000);
  const usable = data?.models.filter((m) => !m.problem && m.use === "chat") ?? [];
  const [model, setModel] = useState("");
  const [instructions, setInstructions] = useState("");
  const [question, setQuestion] = useState("");
  const [temperature, setTemperature] = useState("");
  const [maxTokens, setMaxTokens] = useState("");
  const [think, setThink] = useState(false);
  const [answer, setAnswer] = useState<Answer>();
  const cancel = useRef<AbortController>(undefined);
  useEffect(() => () => cancel.current?.abort(), []);

  const chosen = usable.find((m) => m.id === model) ?? usable[0];
  const canThink = chosen?.template?.thinking ?? false;

  async function submit(e?: FormEvent) {
    e?.preventDefault();
    if (!chosen || !question.trim() || answer?.running) return;
    const control = new AbortController();
    cancel.current = control;
    const begun = performance.now();
    setAnswer({ text: "", reasoning: "", running: true });
    const finish = (rest: Partial<Answer>) =>
      setAnswer((a) => a && { ...a, running: false, milliseconds: performance.now() - begun, ...rest });
    try {
      const q = { model: chosen.id, instructions: instructions.trim(), question, temperature: number(temperature), maxTokens: number(maxTokens), think: think && canThink };
      const add = (text: string, reasoning: string) => setAnswer((a) => a && { ...a, text: a.text + text, reasoning: a.reasoning + reasoning });
      const ending = await api.ask(q, add, control.signal);
      finish({ ending });
    } catch (e) {
      finish(control.signal.aborted ? { problem: "You stopped the answer." } : { problem: message(e) });
    }
  }

  function onKeyDown(e: KeyboardEvent) {
    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) void submit();
  }

  return (
    <section>
      <Heading title="Try it" lead="Ask one question, as an application would in the chat style." />
      <div className="grid gap-10 border-t border-rule pt-6 md:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <form onSubmit={(e) => void submit(e)} onKeyDown={onKeyDown} className="grid content-start gap-5">
          <Field label="Model" htmlFor="model">
            <select id="model" value={chosen?.id ?? ""} onChange={(e) => setModel(e.target.value)} className={`${inputStyle} h-9`}>
              {usable.map((m) => (
                <option key={m.id}>{m.id}</option>
              ))}
            </select>
          </Field>
          <Field label="Instructions" htmlFor="instructions">
            <textarea
              id="instructions"
              rows={2}
              value={instructions}
              onChange={(e) => setInstructions(e.target.value)}
              placeholder="You are a cheerful harbour master."
              className={`${inputStyle} resize-y py-2`}
            />
          </Field>
          <Field label="Question" htmlFor="question">
            <textarea
              id="question"
              rows={4}
              value={question}
              onChange={(e) => setQuestion(e.target.value)}
              placeholder="When is the last boat to Osmer?"
              className={`${inputStyle} resize-y py-2`}
            />
          </Field>
          <div className="grid grid-cols-2 gap-5">
            <Field label="Temperature" htmlFor="temperature">
              <input
                id="temperature"
                type="number"
                min={0}
                max={2}
                step={0.1}
                value={temperature}
                onChange={(e) => setTemperature(e.target.value)}
                placeholder={chosen?.defaults.temperature === undefined ? "1" : `${chosen.defaults.temperature}, the model's own`}
                className={`${inputStyle} tabular h-9`}
              />
            </Field>
            <Field label="Longest answer" htmlFor="max-tokens">
              <input
                id="max-tokens"
                type="number"
                min={1}
                value={maxTokens}
                onChange={(e) => setMaxTokens(e.target.value)}
                placeholder="tokens"
                className={`${inputStyle} tabular h-9`}
              />
            </Field>
          </div>
          {canThink && (
            <label className="flex items-center gap-2">
              <input type="checkbox" className="accent-vermilion" checked={think} onChange={(e) => setThink(e.target.checked)} />
              Reason first
            </label>
          )}
          <div className="flex items-center gap-3">
            {answer?.running ? (
              <Button onClick={() => cancel.current?.abort()}>Stop</Button>
            ) : (
              <Button type="submit" weight="primary" disabled={!chosen || !question.trim()}>
                Ask
              </Button>
            )}
            <span className="text-small text-faded max-sm:hidden">Ctrl + Enter</span>
          </div>
        </form>
        <AnswerView answer={answer} />
      </div>
    </section>
  );
}

function AnswerView({ answer }: { answer?: Answer }) {
  if (!answer) {
    return <p className="border-l border-rule pl-6 text-faded">The answer appears here as the model writes it.</p>;
  }
  return (
    <div className={`grid min-h-40 content-start gap-4 border-l pl-6 ${answer.running ? "border-vermilion" : "border-rule"}`}>
      {answer.reasoning && (
        // Open while there is nothing else to see; folded away when the answer comes.
        <details open={answer.text === ""} className="text-small text-faded" data-testid="reasoning">
          <summary className="cursor-pointer">Reasoning</summary>
          <p className="mt-1 whitespace-pre-wrap">{answer.reasoning}</p>
        </details>
      )}
      <div aria-live="polite" aria-busy={answer.running} data-testid="answer" className="font-serif text-large whitespace-pre-wrap">
        {answer.text}
        {answer.running && <span aria-hidden className="caret ml-0.5 inline-block h-[1em] w-[2px] translate-y-[0.15em] bg-vermilion" />}
      </div>
      {answer.problem && <Problem>{answer.problem}</Problem>}
      {answer.ending && <Figures answer={answer} ending={answer.ending} />}
    </div>
  );
}

function Figures({ answer, ending }: { answer: Answer; ending: api.Ending }) {
  const prefill = /prefill;dur=([\d.]+)/.exec(ending.timing)?.[1];
  return (
    <div className="grid gap-3 border-t border-rule pt-3 text-small" data-testid="figures">
      <dl className="flex flex-wrap gap-x-6 gap-y-2">
        <Figure name="Prompt" value={`${ending.promptTokens} tokens`} />
        <Figure name="Answer" value={`${ending.completionTokens} tokens`} />
        {prefill && <Figure name="Reading the prompt" value={`${Math.round(Number(prefill))} ms`} />}
        {answer.milliseconds !== undefined && <Figure name="In all" value={`${Math.round(answer.milliseconds)} ms`} />}
        <Figure name="Ended" value={ending.reason === "length" ? "cut off at the limit" : "by itself"} />
      </dl>
      <div>
        <CopyButton text={answer.text} what="the answer" />
      </div>
    </div>
  );
}

function Figure({ name, value }: { name: string; value: string }) {
  return (
    <div>
      <dt className="text-faded">{name}</dt>
      <dd className="tabular">{value}</dd>
    </div>
  );
}
