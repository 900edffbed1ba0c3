// The small parts that screens are made of.
import { Checkbox as RadixCheckbox, Select as RadixSelect, Tooltip } from "radix-ui";
import { createContext, Fragment, useContext, useEffect, useId, useRef, useState, type ButtonHTMLAttributes, type InputHTMLAttributes, type ReactNode, type TextareaHTMLAttributes } from "react";

type Weight = "primary" | "plain" | "quiet";

const weights: Record<Weight, string> = {
  primary: "px-3.5 bg-vermilion text-on-vermilion border-vermilion hover:brightness-95",
  plain: "px-3.5 border-rule-strong text-ink hover:border-ink",
  quiet: "border-transparent text-faded hover:text-ink",
};

/** A button. While what it began is under way (`busy`) it cannot be pressed again. */
export function Button({ weight = "plain", className = "", busy, disabled, ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { weight?: Weight; busy?: boolean }) {
  return (
    <button
      type="button"
      disabled={disabled || busy}
      aria-busy={busy || undefined}
      className={`inline-flex h-9 items-center justify-center gap-2 rounded-control border text-small font-medium whitespace-nowrap disabled:opacity-55 ${weights[weight]} ${className}`}
      {...rest}
    />
  );
}

/** Copies a text, and says so for a moment. */
export function CopyButton({ text, what }: { text: string; what: string }) {
  const [state, setState] = useState<"idle" | "copied" | "failed">("idle");
  const timer = useRef<number>(undefined);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  async function copy() {
    try {
      await navigator.clipboard.writeText(text);
      setState("copied");
    } catch {
      setState("failed");
    }
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => setState("idle"), 2000);
  }
  const label = { idle: "Copy", copied: "Copied", failed: "Select it and copy by hand" }[state];
  return (
    <Hint text={`Copy ${what}`}>
      <button
        type="button"
        onClick={() => void copy()}
        aria-label={`Copy ${what}`}
        className="h-7 shrink-0 rounded-control border border-rule-strong px-2.5 text-small font-medium hover:border-ink"
      >
        <span aria-live="polite">{label}</span>
      </button>
    </Hint>
  );
}

export function Hint({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={6} className="z-30 max-w-72 rounded-control bg-ink px-2.5 py-1 text-small text-paper">
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

const inputLook = "rounded-control border border-rule-strong bg-leaf px-3 text-ink placeholder:text-faded hover:border-ink aria-invalid:border-vermilion";

/** What a field tells the control in it: its id, and what describes it. */
const FieldContext = createContext<{ id?: string; describedBy?: string; wrong?: boolean }>({});

/** A form field: its name, the control, and lines of help and of what is wrong, which are tied to the control. */
export function Field({ label, help, wrong, id, children }: { label: string; help?: ReactNode; wrong?: string; id?: string; children: ReactNode }) {
  const made = useId();
  const own = id ?? made;
  const described = [help && `${own}-help`, wrong && `${own}-wrong`].filter(Boolean).join(" ");
  return (
    <div className="grid content-start gap-1.5">
      <label htmlFor={own} className="text-small font-medium">
        {label}
      </label>
      <FieldContext value={{ id: own, describedBy: described || undefined, wrong: !!wrong }}>{children}</FieldContext>
      {help && (
        <p id={`${own}-help`} className="text-small text-faded">
          {help}
        </p>
      )}
      {wrong && (
        <p id={`${own}-wrong`} role="alert" className="text-small text-vermilion">
          {wrong}
        </p>
      )}
    </div>
  );
}

export function Input({ className = "", ...rest }: InputHTMLAttributes<HTMLInputElement> & { ref?: React.Ref<HTMLInputElement> }) {
  const f = useContext(FieldContext);
  return <input id={f.id} aria-describedby={f.describedBy} aria-invalid={f.wrong || undefined} className={`${inputLook} h-9 w-full text-base ${className}`} {...rest} />;
}

export function TextArea({ className = "", ...rest }: TextareaHTMLAttributes<HTMLTextAreaElement>) {
  const f = useContext(FieldContext);
  return <textarea id={f.id} rows={2} aria-describedby={f.describedBy} aria-invalid={f.wrong || undefined} className={`${inputLook} w-full resize-y py-2 text-base ${className}`} {...rest} />;
}

/** A number, or nothing. */
export function NumberInput({ value, onChange, ...rest }: { value?: number; onChange: (n?: number) => void } & Omit<InputHTMLAttributes<HTMLInputElement>, "value" | "onChange">) {
  return <Input type="number" className="tabular" value={value ?? ""} onChange={(e) => onChange(e.target.value === "" ? undefined : Number(e.target.value))} {...rest} />;
}

export type Option = { value: string; label?: string };

/** Radix takes no empty value, which here stands for "all" or "none". */
const nothing = "\u0000";

/** One of several. */
export function Select(props: { value: string; onChange: (value: string) => void; options: Option[]; label?: string; placeholder?: string; className?: string; disabled?: boolean }) {
  const f = useContext(FieldContext);
  return (
    <RadixSelect.Root value={props.value === "" && props.options.some((o) => o.value === "") ? nothing : props.value} onValueChange={(v) => props.onChange(v === nothing ? "" : v)} disabled={props.disabled}>
      <RadixSelect.Trigger
        id={f.id}
        aria-label={props.label}
        aria-describedby={f.describedBy}
        className={`${inputLook} flex h-9 w-full items-center justify-between gap-3 text-left text-base disabled:opacity-55 ${props.className ?? ""}`}
      >
        <span className="truncate">
          <RadixSelect.Value placeholder={props.placeholder} />
        </span>
        <RadixSelect.Icon aria-hidden className="text-faded">
          <svg width="10" height="6" viewBox="0 0 10 6" fill="none" stroke="currentColor" strokeWidth="1.5">
            <path d="M1 1l4 4 4-4" />
          </svg>
        </RadixSelect.Icon>
      </RadixSelect.Trigger>
      <RadixSelect.Portal>
        <RadixSelect.Content position="popper" sideOffset={4} className="z-40 max-h-72 min-w-[var(--radix-select-trigger-width)] overflow-hidden border border-rule-strong bg-leaf">
          <RadixSelect.Viewport className="py-1">
            {props.options.map((o) => (
              <RadixSelect.Item
                key={o.value}
                value={o.value === "" ? nothing : o.value}
                className="flex cursor-pointer items-center justify-between gap-6 px-3 py-1.5 outline-none data-[highlighted]:bg-wash data-[state=checked]:font-medium"
              >
                <RadixSelect.ItemText>{o.label ?? o.value}</RadixSelect.ItemText>
              </RadixSelect.Item>
            ))}
          </RadixSelect.Viewport>
        </RadixSelect.Content>
      </RadixSelect.Portal>
    </RadixSelect.Root>
  );
}

/** A thing that is so or not, with its words beside it. */
export function Checkbox({ checked, onChange, children, disabled }: { checked: boolean; onChange: (checked: boolean) => void; children: ReactNode; disabled?: boolean }) {
  const id = useId();
  return (
    <div className="flex min-h-6 items-start gap-2">
      <RadixCheckbox.Root
        id={id}
        checked={checked}
        disabled={disabled}
        onCheckedChange={(c) => onChange(c === true)}
        className="mt-[0.2rem] grid size-4 shrink-0 place-items-center rounded-[2px] border border-rule-strong bg-leaf hover:border-ink data-[state=checked]:border-vermilion data-[state=checked]:bg-vermilion"
      >
        <RadixCheckbox.Indicator>
          <svg width="10" height="8" viewBox="0 0 10 8" fill="none" className="stroke-on-vermilion" strokeWidth="2" aria-hidden>
            <path d="M1 4l3 3 5-6" />
          </svg>
        </RadixCheckbox.Indicator>
      </RadixCheckbox.Root>
      <label htmlFor={id} className="cursor-pointer">
        {children}
      </label>
    </div>
  );
}

/** What went wrong, in the gate's own words. */
export function Problem({ children }: { children: ReactNode }) {
  return (
    <p role="alert" className="border-l-2 border-vermilion bg-wash px-3 py-2 text-small">
      {children}
    </p>
  );
}

export function Heading({ title, lead, action }: { title: string; lead: ReactNode; action?: ReactNode }) {
  return (
    <div className="flex flex-wrap items-end justify-between gap-x-8 gap-y-3 pb-5">
      <div>
        <h1 className="font-serif text-title leading-tight">{title}</h1>
        <p className="mt-1 max-w-2xl text-faded">{lead}</p>
      </div>
      {action}
    </div>
  );
}

/** A part of a screen, with a hairline above it. */
export function Part({ title, lead, action, children }: { title: string; lead?: ReactNode; action?: ReactNode; children: ReactNode }) {
  return (
    <section className="mt-8 border-t border-rule pt-6">
      <div className="flex flex-wrap items-end justify-between gap-x-8 gap-y-3 pb-4">
        <div>
          <h2 className="font-serif text-large font-medium">{title}</h2>
          {lead && <p className="max-w-2xl text-faded">{lead}</p>}
        </div>
        {action}
      </div>
      {children}
    </section>
  );
}

/** A text without spaces, such as a path or an address, that breaks behind its slashes, colons and commas rather than anywhere. */
export function Breakable({ text }: { text: string }) {
  return text.split(/(?<=[/\\:,])/).map((part, i) => (
    <Fragment key={i}>
      {part}
      <wbr />
    </Fragment>
  ));
}

/** That there is nothing yet, and what would change that. */
export function Empty({ children }: { children: ReactNode }) {
  return <p className="border-t border-rule py-8 text-faded">{children}</p>;
}

/** Stands where something is going to be. */
export function Skeleton({ lines = 4 }: { lines?: number }) {
  return (
    <div role="status" aria-label="Loading" className="grid gap-3 border-t border-rule py-4">
      {Array.from({ length: lines }, (_, i) => (
        <div key={i} aria-hidden className="h-5 bg-rule/50" style={{ width: `${92 - 13 * (i % 3)}%` }} />
      ))}
    </div>
  );
}
