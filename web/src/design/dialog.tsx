import { Dialog as Radix } from "radix-ui";
import { useRef, useState, type ReactNode } from "react";
import { message } from "../words";
import { Button, Problem } from "./controls";

/**
 * A dialog over the page. It closes by Escape and by a click beside it, unless `firm` is set, or something was entered: then it asks first. When it
 * closes, the focus returns to where it was.
 */
export function Dialog(props: { open: boolean; onClose: () => void; title: string; description: string; firm?: boolean; wide?: boolean; children: ReactNode }) {
  const [asking, setAsking] = useState(false);
  const entered = useRef(false);
  const before = useRef<Element | null>(null);
  before.current ??= document.activeElement;
  const keep = (e: Event) => {
    if (!props.firm && !entered.current) return;
    e.preventDefault();
    if (!props.firm) setAsking(true);
  };
  return (
    <Radix.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-20 bg-scrim" />
        <Radix.Content
          onInteractOutside={keep}
          onEscapeKeyDown={keep}
          onInput={() => (entered.current = true)}
          onCloseAutoFocus={(e) => {
            e.preventDefault();
            returnTo(before.current);
          }}
          className={`fixed top-[8vh] left-1/2 z-20 grid max-h-[86vh] ${props.wide ? "w-[min(52rem,calc(100vw-2rem))]" : "w-[min(34rem,calc(100vw-2rem))]"} -translate-x-1/2 gap-4 overflow-y-auto border border-rule-strong bg-leaf p-6 outline-none`}
        >
          <div>
            <Radix.Title className="font-serif text-title leading-tight">{props.title}</Radix.Title>
            <Radix.Description className="mt-1 text-faded">{props.description}</Radix.Description>
          </div>
          {props.children}
          {asking && (
            <div role="alert" className="flex flex-wrap items-center justify-end gap-3 border-t border-rule pt-4">
              <p className="grow text-small">Discard what you have entered?</p>
              <Button onClick={() => setAsking(false)}>Keep editing</Button>
              <Button weight="primary" onClick={props.onClose}>
                Discard
              </Button>
            </div>
          )}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** Puts the focus where it was; where that is not there any more, on what is there in its place: the same thing in a list that was drawn anew, or the page. */
function returnTo(element: Element | null) {
  if (element instanceof HTMLElement && element.isConnected) return element.focus();
  const label = element?.getAttribute("aria-label");
  const again = label ? document.querySelector<HTMLElement>(`[aria-label="${CSS.escape(label)}"]`) : null;
  (again ?? document.querySelector<HTMLElement>("main"))?.focus();
}

/** Asks before something is done that cannot be undone. It closes when that is done; what goes wrong is shown. */
export function Confirm(props: { title: string; description: string; act: string; onAct: () => Promise<unknown>; onClose: () => void }) {
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  async function act() {
    setBusy(true);
    try {
      await props.onAct();
      props.onClose();
    } catch (e) {
      setProblem(message(e));
    }
    setBusy(false);
  }
  return (
    <Dialog open onClose={props.onClose} title={props.title} description={props.description}>
      {problem && <Problem>{problem}</Problem>}
      <div className="flex justify-end gap-3">
        <Button onClick={props.onClose}>Keep it</Button>
        <Button weight="primary" busy={busy} onClick={() => void act()}>
          {props.act}
        </Button>
      </div>
    </Dialog>
  );
}
