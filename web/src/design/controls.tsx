// The small parts that screens are made of.
import { Tooltip } from "radix-ui";
import { useEffect, useRef, useState, type ButtonHTMLAttributes, type ReactNode } from "react";

type Weight = "primary" | "plain" | "quiet";

const weights: Record<Weight, string> = {
  primary: "px-3.5 bg-vermilion text-on-vermilion border-vermilion hover:brightness-95",
  plain: "px-3.5 border-rule-strong text-ink hover:border-ink",
  quiet: "border-transparent text-faded hover:text-ink",
};

export function Button({ weight = "plain", className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { weight?: Weight }) {
  return (
    <button
      type="button"
      className={`inline-flex h-9 items-center justify-center gap-2 rounded-control border text-small font-medium whitespace-nowrap disabled:opacity-45 ${weights[weight]} ${className}`}
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

export const inputLook = "rounded-control border border-rule-strong bg-leaf px-3 text-ink placeholder:text-faded/70 hover:border-ink";
export const inputStyle = `${inputLook} w-full text-base`;

/** A form field: its name, the control, and a line of help or what is wrong. */
export function Field({ label, help, htmlFor, children }: { label: string; help?: string; htmlFor: string; children: ReactNode }) {
  return (
    <div className="grid gap-1.5">
      <label htmlFor={htmlFor} className="text-small font-medium">
        {label}
      </label>
      {children}
      {help && <p className="text-small text-faded">{help}</p>}
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
