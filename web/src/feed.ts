// One feed of exchanges for all screens, and for all tabs of a browser: it is open as long as somebody listens whose tab is visible.
import { useEffect, useRef, useState } from "react";
import type { Exchange } from "./api";

/** What the worker tells a tab, and a tab the worker. */
export type Word = { kind: "opened" } | { kind: "broken" } | { kind: "seen"; data: string };
export type Told = { kind: "listen"; address: string } | { kind: "leave" };

type Listener = { seen: (e: Exchange) => void; opened: () => void; broken: () => void };

const listeners = new Set<Listener>();
let leave: (() => void) | undefined;
let open = false;

function hear(word: Word) {
  switch (word.kind) {
    case "opened":
      open = true;
      for (const l of listeners) l.opened();
      return;
    case "broken":
      open = false;
      for (const l of listeners) l.broken();
      return;
    case "seen": {
      const told = JSON.parse(word.data) as Exchange;
      for (const l of listeners) l.seen(told);
    }
  }
}

/** Listens by the worker that all tabs share, or by a line of its own where there is none. */
function begin() {
  const address = new URL("gate/exchanges/live", document.baseURI).href;
  if (typeof SharedWorker === "undefined") {
    const source = new EventSource(address);
    source.onopen = () => hear({ kind: "opened" });
    source.onerror = () => hear({ kind: "broken" });
    source.onmessage = (event: MessageEvent<string>) => {
      if (event.data !== "[DONE]") hear({ kind: "seen", data: event.data });
    };
    leave = () => source.close();
    return;
  }
  const worker = new SharedWorker(new URL("./feed-worker.ts", import.meta.url), { type: "module", name: "feed" });
  worker.port.onmessage = ({ data }: MessageEvent<Word>) => hear(data);
  worker.port.postMessage({ kind: "listen", address } satisfies Told);
  leave = () => {
    worker.port.postMessage({ kind: "leave" } satisfies Told);
    worker.port.close();
  };
}

function end() {
  leave?.();
  leave = undefined;
  open = false;
}

/** A tab that nobody sees listens to nothing, and asks again what has happened when it is seen. */
function look() {
  if (document.visibilityState === "hidden") end();
  else if (listeners.size > 0 && !leave) begin();
}

document.addEventListener("visibilitychange", look);
window.addEventListener("pagehide", end);

/** Listens to the feed. `opened` comes whenever it begins, or begins again: what happened before must be asked for then. */
export function useFeed(seen: (e: Exchange) => void, opened: () => void): { broken: boolean } {
  const [broken, setBroken] = useState(false);
  const now = useRef({ seen, opened });
  useEffect(() => {
    now.current = { seen, opened };
  });
  useEffect(() => {
    const listener: Listener = {
      seen: (e) => now.current.seen(e),
      opened: () => {
        setBroken(false);
        now.current.opened();
      },
      broken: () => setBroken(true),
    };
    listeners.add(listener);
    if (!leave) look();
    else if (open) listener.opened();
    return () => {
      listeners.delete(listener);
      // Another screen that is about to be shown may listen too, so the line is kept for a moment.
      window.setTimeout(() => {
        if (listeners.size === 0) end();
      }, 500);
    };
  }, []);
  return { broken };
}
