// The one feed of exchanges for all tabs of a browser, which would otherwise use up the connections that it makes to one server. It is open
// while a tab that is visible listens.
import type { Told, Word } from "./feed";

const tabs = new Set<MessagePort>();
let source: EventSource | undefined;
let open = false;

function tell(word: Word) {
  for (const tab of tabs) tab.postMessage(word);
}

function begin(address: string) {
  source = new EventSource(address);
  source.onopen = () => {
    open = true;
    tell({ kind: "opened" });
  };
  source.onerror = () => {
    open = false;
    tell({ kind: "broken" }); // the browser tries again by itself
  };
  source.onmessage = (event: MessageEvent<string>) => {
    if (event.data !== "[DONE]") tell({ kind: "seen", data: event.data });
  };
}

(self as unknown as { onconnect: (event: MessageEvent) => void }).onconnect = (event) => {
  const tab = event.ports[0];
  if (!tab) return;
  tab.onmessage = ({ data }: MessageEvent<Told>) => {
    if (data.kind === "leave") {
      tabs.delete(tab);
      if (tabs.size > 0 || !source) return;
      source.close();
      source = undefined;
      open = false;
      return;
    }
    tabs.add(tab);
    if (!source) begin(data.address);
    else if (open) tab.postMessage({ kind: "opened" } satisfies Word);
  };
};
