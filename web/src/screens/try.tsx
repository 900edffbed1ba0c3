import { Tabs, ToggleGroup } from "radix-ui";
import { useEffect, useRef, useState, type FormEvent, type KeyboardEvent, type ReactNode } from "react";
import * as api from "../api";
import { Button, Checkbox, CopyButton, Field, Heading, NumberInput, Problem, Select, TextArea } from "../design/controls";
import { useDraft } from "../drafts";
import { targetOptions, useTargets, useTools } from "../queries";
import { ask, styles, type Ending, type Increment, type Question, type Run, type Style } from "../styles";
import { message } from "../words";
import { Pictures, readPictures, takesPictures, type Picture } from "./pictures";

type Answer = { style: Style; question: Question; runs: Run[]; response?: string; text: string; reasoning: string; lines: string[]; running: boolean; ending?: Ending; problem?: string; milliseconds?: number };

export function TryScreen() {
  const targets = useTargets();
  const [styleName, setStyleName] = useDraft<Style["name"]>("try styleName", "chat");
  const [model, setModel] = useDraft("try model", "");
  const [instructions, setInstructions] = useDraft("try instructions", "");
  const [question, setQuestion] = useDraft("try question", "");
  const [temperature, setTemperature] = useDraft<number | undefined>("try temperature", undefined);
  const [maxTokens, setMaxTokens] = useDraft<number | undefined>("try longest", undefined);
  const [think, setThink] = useDraft("try think", false);
  const [tools, setTools] = useDraft<string[]>("try tools", []);
  const [unasked, setUnasked] = useDraft("try unasked", false);
  const offered = useTools().data?.servers.map((s) => s.name) ?? [];
  const [pictures, setPictures] = useDraft<Picture[]>("try pictures", []);
  const [answers, setAnswers] = useDraft<Answer[]>("try answers", []);
  const cancel = useRef<AbortController>(undefined);
  useEffect(() => {
    // Who comes back finds what was there when they left; an answer that was under way then has ended.
    setAnswers((all) => all.map((a) => (a.running ? { ...a, running: false, problem: "You left while this was being written." } : a)));
    return () => cancel.current?.abort();
  }, [setAnswers]);

  const chosen = targets.find((t) => t.name === model) ?? targets[0];
  const style = styles.find((s) => s.name === styleName)!;
  const raw = style.name === "completion";
  const canThink = chosen?.model?.template?.thinking ?? false;
  const running = answers.some((a) => a.running);
  const sees = chosen?.model?.pictures;
  // Of a model on a machine it is not known; those here say.
  const canSee = (style.name === "chat" || style.name === "response") && (chosen?.model ? !!sees && !sees.problem : !!chosen);
  const addPictures = (files: File[]) => void readPictures(files).then((list) => setPictures((old) => [...old, ...list]));
  const q: Question = {
    model: chosen?.name ?? "",
    instructions: instructions.trim(),
    text: question,
    temperature,
    maxTokens,
    think: think && canThink,
    pictures: canSee ? pictures.map((p) => p.url) : [],
    tools: tools.filter((t) => offered.includes(t)),
    unasked,
  };

  async function submit(list: Style[]) {
    if (!chosen || !question.trim() || running) return;
    const control = new AbortController();
    cancel.current = control;
    setAnswers(list.map((s) => ({ style: s, question: q, runs: [], text: "", reasoning: "", lines: [], running: true })));
    await Promise.all(list.map((s) => write(s, q, control)));
  }

  /** Has an answer written, or written on, as its events come. */
  async function write(s: Style, question: Question, control: AbortController) {
    const begun = performance.now();
    const change = (to: (a: Answer) => Partial<Answer>) => setAnswers((all) => all.map((a) => (a.style === s ? { ...a, ...to(a) } : a)));
    const finish = (rest: Partial<Answer>) => change(() => ({ running: false, milliseconds: performance.now() - begun, ...rest }));
    try {
      const add = (line: string, added: Increment) =>
        change((a) => ({
          text: a.text + (added.text ?? ""),
          reasoning: a.reasoning + (added.reasoning ?? ""),
          lines: [...a.lines, line],
          response: added.response ?? a.response,
          runs: added.run ? [...a.runs.filter((r) => r.id !== added.run?.id), added.run] : a.runs,
        }));
      const ending = await ask(s, question, add, control.signal);
      // One that went on after an approval counts with what came before.
      change((a) => ({ running: false, milliseconds: performance.now() - begun + (a.milliseconds ?? 0), ending: { ...ending, promptTokens: ending.promptTokens + (a.ending?.promptTokens ?? 0), completionTokens: ending.completionTokens + (a.ending?.completionTokens ?? 0) } }));
    } catch (e) {
      finish(control.signal.aborted ? { problem: "You stopped the answer." } : { problem: message(e) });
    }
  }

  /** Goes on with an answer whose calls waited for an approval. */
  function decide(a: Answer, approve: boolean) {
    if (running || !a.response) return;
    const control = new AbortController();
    cancel.current = control;
    const approvals = a.runs.filter((r) => r.waits).map((r) => ({ id: r.id, approve }));
    setAnswers((all) => all.map((one) => (one === a ? { ...a, running: true, runs: a.runs.filter((r) => !r.waits) } : one)));
    void write(a.style, { ...a.question, goesOn: { previous: a.response, approvals } }, control);
  }

  function onKeyDown(e: KeyboardEvent) {
    if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) void submit([style]);
  }
  function onSubmit(e: FormEvent) {
    e.preventDefault();
    void submit([style]);
  }

  return (
    <section>
      <Heading title="Try it" lead="Ask one question, as an application would, in any style." />
      <div className="grid gap-10 border-t border-rule pt-6 md:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
        <form onSubmit={onSubmit} onKeyDown={onKeyDown} {...(canSee ? takesPictures(addPictures) : {})} className="grid content-start gap-4">
          <div className="grid gap-1.5">
            <span className="text-small font-medium" id="style-label">
              Style
            </span>
            <ToggleGroup.Root
              type="single"
              value={styleName}
              onValueChange={(v) => v && setStyleName(v as Style["name"])}
              aria-labelledby="style-label"
              className="grid h-9 grid-cols-4 divide-x divide-rule-strong overflow-hidden rounded-control border border-rule-strong bg-leaf"
            >
              {styles.map((s) => (
                <ToggleGroup.Item
                  key={s.name}
                  value={s.name}
                  className="text-small font-medium text-faded hover:text-ink focus-visible:-outline-offset-2 data-[state=on]:bg-ink data-[state=on]:text-paper"
                >
                  {s.title}
                </ToggleGroup.Item>
              ))}
            </ToggleGroup.Root>
            <p className="text-small text-faded">{style.lead}</p>
          </div>
          <Field label="Model" id="model">
            <Select value={chosen?.name ?? ""} onChange={setModel} options={targetOptions(targets)} placeholder="none is installed" />
          </Field>
          {!raw && (
            <Field label="Instructions" id="instructions">
              <TextArea value={instructions} onChange={(e) => setInstructions(e.target.value)} placeholder="You are a cheerful harbour master." />
            </Field>
          )}
          <Field label={raw ? "Text to continue" : "Question"} id="question">
            <TextArea value={question} onChange={(e) => setQuestion(e.target.value)} placeholder={raw ? "The last boat to Osmer" : "When is the last boat to Osmer?"} />
          </Field>
          {canSee && (
            <Pictures
              list={pictures}
              change={setPictures}
              add={addPictures}
              said={!sees ? "if the model takes any" : sees.tokens ? `each is ${sees.tokens} tokens` : `each is ${sees.least ?? 1} to ${sees.most} tokens, by its size`}
            />
          )}
          <div className="grid grid-cols-2 gap-5">
            <Field label="Temperature" id="temperature">
              <NumberInput
                min={0}
                max={2}
                step={0.1}
                value={temperature}
                onChange={setTemperature}
                placeholder={chosen?.model?.defaults.temperature === undefined ? "1" : `${chosen.model.defaults.temperature}, the model's own`}
              />
            </Field>
            <Field label="Max tokens" id="max-tokens">
              <NumberInput min={1} value={maxTokens} onChange={setMaxTokens} placeholder={raw ? "256 tokens" : "tokens"} />
            </Field>
          </div>
          {styleName === "response" && offered.length > 0 && (
            <fieldset className="grid gap-1.5">
              <legend className="pb-1 text-small font-medium">Tools that the gate runs</legend>
              <div className="flex flex-wrap gap-x-6 gap-y-1">
                {offered.map((name) => (
                  <Checkbox key={name} checked={tools.includes(name)} onChange={() => setTools(tools.includes(name) ? tools.filter((t) => t !== name) : [...tools, name])}>
                    {name}
                  </Checkbox>
                ))}
                {q.tools?.length !== 0 && (
                  <Checkbox checked={unasked} onChange={setUnasked}>
                    Run what changes something without asking
                  </Checkbox>
                )}
              </div>
            </fieldset>
          )}
          {canThink && !raw && (
            <Checkbox checked={think} onChange={setThink}>
              Reason first
            </Checkbox>
          )}
          <div className="flex flex-wrap items-center gap-3">
            {running ? (
              <Button onClick={() => cancel.current?.abort()}>Stop</Button>
            ) : (
              <>
                <Button type="submit" weight="primary" disabled={!chosen || !question.trim()}>
                  Ask
                </Button>
                <Button disabled={!chosen || !question.trim()} onClick={() => void submit(styles)}>
                  Ask in every style
                </Button>
              </>
            )}
            <span className="text-small text-faded max-sm:hidden">Ctrl + Enter</span>
          </div>
        </form>
        <Results answers={answers} style={style} question={q} decide={decide} />
      </div>
    </section>
  );
}

function Results({ answers, style, question, decide }: { answers: Answer[]; style: Style; question: Question; decide: (a: Answer, approve: boolean) => void }) {
  const tab = (value: string, title: ReactNode) => (
    <Tabs.Trigger value={value} className="-mb-px border-b-2 border-transparent pb-1.5 text-small font-medium text-faded hover:text-ink data-[state=active]:border-ink data-[state=active]:text-ink">
      {title}
    </Tabs.Trigger>
  );
  const lines = answers.reduce((n, a) => n + a.lines.length, 0);
  return (
    <Tabs.Root defaultValue="answer" className="min-w-0">
      <Tabs.List aria-label="What to look at" className="flex gap-6 border-b border-rule">
        {tab("answer", "Answer")}
        {tab("events", <>Events{lines > 0 && <span className="tabular ml-1.5 font-normal">{lines}</span>}</>)}
        {tab("snippet", "Snippet")}
      </Tabs.List>
      <Tabs.Content value="answer" className="grid content-start gap-8 pt-5">
        {answers.length === 0 && <p className="text-faded">The answer appears here as the model writes it.</p>}
        {answers.map((a) => (
          <AnswerView key={a.style.name} answer={a} titled={answers.length > 1} decide={(approve) => decide(a, approve)} />
        ))}
      </Tabs.Content>
      <Tabs.Content value="events" className="grid content-start gap-6 pt-5">
        {answers.length === 0 && <p className="text-faded">What the gate sends appears here, line by line.</p>}
        {answers.map((a) => (
          <EventsView key={a.style.name} answer={a} />
        ))}
      </Tabs.Content>
      <Tabs.Content value="snippet" className="pt-5">
        <SnippetView style={style} question={question} />
      </Tabs.Content>
    </Tabs.Root>
  );
}

function EventsView({ answer }: { answer: Answer }) {
  return (
    <div className="min-w-0">
      <div className="flex items-center justify-between gap-4 pb-2">
        <h2 className="text-small font-medium">
          {answer.style.title} <span className="ml-1 font-mono font-normal text-faded">POST {answer.style.path}</span>
        </h2>
        <CopyButton text={answer.lines.join("\n\n")} what="the events" />
      </div>
      <ol className="max-h-96 overflow-auto border-y border-rule py-2 font-mono text-small" data-testid="events" tabIndex={0} aria-label={`Events of ${answer.style.title}`}>
        {answer.lines.map((line, i) => (
          <li key={i} className={`whitespace-nowrap ${line.startsWith("data: ") ? "" : "text-faded"}`}>
            {line}
          </li>
        ))}
      </ol>
    </div>
  );
}

const languages = [
  ["curl", "curl, POSIX shells"],
  ["powershell", "curl, PowerShell"],
  ["cmd", "curl, cmd.exe"],
  ["python", "Python"],
  ["javascript", "JavaScript"],
  ["go", "Go"],
  ["csharp", "C#"],
] as const;

/** The request as a program, written by the gate, for the question as it stands. */
function SnippetView({ style, question }: { style: Style; question: Question }) {
  const [language, setLanguage] = useState<string>("curl");
  const [text, setText] = useState("");
  const [problem, setProblem] = useState("");
  const pictured = (question.pictures?.length ?? 0) > 0;
  // A picture is megabytes of letters: its beginning stands for it.
  const request = JSON.stringify(style.body({ ...question, pictures: question.pictures?.map((url) => `${url.slice(0, url.indexOf(",") + 1)}BASE64`), text: question.text || "When is the last boat to Osmer?" }));
  useEffect(() => {
    if (!question.model) return;
    const abort = new AbortController();
    const write = async () => {
      try {
        setText(await api.snippet(style.name, language, JSON.parse(request) as object, abort.signal));
        setProblem("");
      } catch (e) {
        if (!abort.signal.aborted) setProblem(message(e));
      }
    };
    const timer = window.setTimeout(() => void write(), 150);
    return () => {
      window.clearTimeout(timer);
      abort.abort();
    };
  }, [style.name, language, request, question.model]);
  return (
    <div className="grid gap-3">
      <div className="flex items-center justify-between gap-4">
        <Select label="Language" value={language} onChange={setLanguage} options={languages.map(([value, label]) => ({ value, label }))} className="max-w-60" />
        <CopyButton text={text} what="the snippet" />
      </div>
      {problem && <Problem>{problem}</Problem>}
      <pre className="max-h-[28rem] overflow-auto border-y border-rule py-3 font-mono text-small" data-testid="snippet" tabIndex={0}>
        {text}
      </pre>
      <p className="text-small text-faded">
        It takes the key from the environment variable <code className="font-mono">KINDRED_KEY</code>.
        {pictured && (
          <>
            {" "}
            In the place of <code className="font-mono">BASE64</code> belongs the picture in base64.
          </>
        )}
      </p>
    </div>
  );
}

/** A call of a tool: what was asked of it, and what it gave. */
function RunView({ run }: { run: Run }) {
  return (
    <li className="grid gap-0.5 font-mono text-small" data-testid="run">
      <span className="break-words">
        {run.name} {run.arguments}
      </span>
      {run.waits ? (
        <span className="text-vermilion">waits for your approval</span>
      ) : run.error ? (
        <span className="break-words text-vermilion">failed: {run.error}</span>
      ) : (
        <span className="break-words text-faded">{run.output === undefined ? "running …" : `→ ${run.output}`}</span>
      )}
    </li>
  );
}

function AnswerView({ answer, titled, decide }: { answer: Answer; titled: boolean; decide: (approve: boolean) => void }) {
  return (
    <div className={`grid content-start gap-3 border-l pl-5 ${answer.running ? "border-vermilion" : "border-rule"}`}>
      {titled && <h2 className="text-small font-medium">{answer.style.title}</h2>}
      {answer.reasoning && (
        // Open while there is nothing else to see; folded away when the answer comes.
        <details open={answer.text === ""} className="text-small text-faded" data-testid="reasoning">
          <summary className="cursor-pointer">Reasoning</summary>
          <p className="mt-1 whitespace-pre-wrap">{answer.reasoning}</p>
        </details>
      )}
      {answer.runs.length > 0 && (
        <ol className="grid gap-2 border-y border-rule py-3" aria-label="Tools that were run">
          {answer.runs.map((r) => (
            <RunView key={r.id} run={r} />
          ))}
        </ol>
      )}
      {!answer.running && answer.runs.some((r) => r.waits) && (
        <div className="flex gap-3">
          <Button weight="primary" onClick={() => decide(true)}>
            Run it
          </Button>
          <Button onClick={() => decide(false)}>Do not</Button>
        </div>
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

function Figures({ answer, ending }: { answer: Answer; ending: Ending }) {
  const prefill = /prefill;dur=([\d.]+)/.exec(ending.timing)?.[1];
  return (
    <div className="grid gap-3 border-t border-rule pt-3 text-small" data-testid="figures">
      <dl className="flex flex-wrap gap-x-6 gap-y-2">
        <Figure name="Prompt" value={`${ending.promptTokens} tokens`} />
        <Figure name="Answer" value={`${ending.completionTokens} tokens`} />
        {prefill && <Figure name="Prefill" value={`${Math.round(Number(prefill))} ms`} />}
        {answer.milliseconds !== undefined && <Figure name="Duration" value={`${Math.round(answer.milliseconds)} ms`} />}
        <Figure name="Ended" value={ending.reason === "length" ? "length limit reached" : "complete"} />
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
