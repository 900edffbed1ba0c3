import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

/** A dialog over the page. It closes by Escape and by a click beside it, unless `firm` is set. */
export function Dialog(props: { open: boolean; onClose: () => void; title: string; description: string; firm?: boolean; children: ReactNode }) {
  const keep = props.firm ? (e: Event) => e.preventDefault() : undefined;
  return (
    <Radix.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-20 bg-ink/35" />
        <Radix.Content
          onInteractOutside={keep}
          className="fixed top-[12vh] left-1/2 z-20 grid max-h-[80vh] w-[min(34rem,calc(100vw-2rem))] -translate-x-1/2 gap-4 overflow-y-auto border border-rule-strong bg-leaf p-6 outline-none"
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
