// One feed of exchanges for all screens: it is open as long as somebody listens.
import { useEffect, useRef, useState } from "react";
import type { Exchange } from "./api";

type Listener = { seen: (e: Exchange) => void; opened: () => void; broken: () => void };

const listeners = new Set<Listener>();
let source: EventSource | undefined;
let open = false;

function begin() {
  source = new EventSource("gate/exchanges/live");
  source.onopen = () => {
    open = true;
    for (const l of listeners) l.opened();
  };
  source.onerror = () => {
    open = false;
    for (const l of listeners) l.broken(); // the browser tries again by itself
  };
  source.onmessage = (event: MessageEvent<string>) => {
    if (event.data === "[DONE]") return; // the gate stops
    const told = JSON.parse(event.data) as Exchange;
    for (const l of listeners) l.seen(told);
  };
}

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
    if (!source) begin();
    else if (open) listener.opened();
    return () => {
      listeners.delete(listener);
      // Another screen that is about to be shown may listen too, so the line is kept for a moment.
      window.setTimeout(() => {
        if (listeners.size > 0 || !source) return;
        source.close();
        source = undefined;
        open = false;
      }, 500);
    };
  }, []);
  return { broken };
}
