import { Dialog as Radix } from "radix-ui";
import { useState, type ReactNode } from "react";
import { message } from "../words";
import { Button, Problem } from "./controls";

/** A dialog over the page. It closes by Escape and by a click beside it, unless `firm` is set. */
export function Dialog(props: { open: boolean; onClose: () => void; title: string; description: string; firm?: boolean; wide?: boolean; children: ReactNode }) {
  const keep = props.firm ? (e: Event) => e.preventDefault() : undefined;
  return (
    <Radix.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-20 bg-ink/35" />
        <Radix.Content
          onInteractOutside={keep}
          className={`fixed top-[8vh] left-1/2 z-20 grid max-h-[86vh] ${props.wide ? "w-[min(52rem,calc(100vw-2rem))]" : "w-[min(34rem,calc(100vw-2rem))]"} -translate-x-1/2 gap-4 overflow-y-auto border border-rule-strong bg-leaf p-6 outline-none`}
        >
          <div>
            <Radix.Title className="font-serif text-title leading-tight">{props.title}</Radix.Title>
            <Radix.Description className="mt-1 text-faded">{props.description}</Radix.Description>
          </div>
          {props.children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
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
