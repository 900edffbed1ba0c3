import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Field, Input } from "../design/controls";
import { Dialog } from "../design/dialog";
import { useToast } from "../design/toast";
import { bytes, message } from "../words";

/** Asks for a model's file, folder or address, and shows how bringing it here goes. */
export function AddModel({ onClose }: { onClose: () => void }) {
  const known = useQueryClient();
  const toast = useToast();
  const [source, setSource] = useState("");
  const [name, setName] = useState("");
  const [progress, setProgress] = useState<api.Addition>();
  const [problem, setProblem] = useState("");
  const underWay = useRef<AbortController>(undefined);
  const shown = useRef(true);
  useEffect(() => {
    shown.current = true;
    return () => {
      shown.current = false; // what is being fetched goes on
    };
  }, []);

  async function add(e: FormEvent) {
    e.preventDefault();
    setProblem("");
    setProgress({});
    const abort = new AbortController();
    underWay.current = abort;
    try {
      const model = await api.addModel({ source: source.trim(), ...(name.trim() && { name: name.trim() }) }, abort.signal, setProgress);
      await known.invalidateQueries({ queryKey: ["models"] });
      toast(`${model.id} is installed.`);
      if (shown.current) onClose();
    } catch (e) {
      if (abort.signal.aborted) return;
      setProblem(message(e));
      if (!shown.current) toast(`A model could not be added: ${message(e)}`);
    }
    setProgress(undefined);
  }

  function stop() {
    underWay.current?.abort();
    setProgress(undefined);
  }

  return (
    <Dialog
      open
      firm
      onClose={onClose}
      title="Add a model"
      description="It is checked first. A file or folder of this computer is linked to; one at an address is fetched, and goes on where it broke off."
    >
      <form className="grid gap-4" onSubmit={(e) => void add(e)}>
        <Field label="File, folder or address" id="model-source" wrong={problem || undefined} help="A .gguf file, a folder with config.json and safetensors, or an address of either with https://">
          <Input value={source} onChange={(e) => setSource(e.target.value)} disabled={!!progress} required />
        </Field>
        <Field label="Name" id="model-name" help="By which applications ask for it. That of its file, if nothing is said.">
          <Input value={name} onChange={(e) => setName(e.target.value)} disabled={!!progress} />
        </Field>
        {progress && <Bar progress={progress} />}
        <div className="flex justify-end gap-3">
          {progress && <Button onClick={stop}>Stop</Button>}
          <Button onClick={onClose}>{progress ? "Close, and continue" : "Cancel"}</Button>
          <Button type="submit" weight="primary" busy={!!progress} disabled={!source.trim()}>
            Add it
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function Bar({ progress: p }: { progress: api.Addition }) {
  const share = p.done && p.total ? p.done / p.total : undefined;
  return (
    <div data-testid="progress" aria-live="polite">
      <p className="flex justify-between gap-4 text-small">
        <span className="truncate">
          {p.doing ?? "asking"} {p.file}
        </span>
        {p.done ? (
          <span className="tabular shrink-0">
            {bytes(p.done)}
            {p.total ? ` of ${bytes(p.total)}` : ""}
          </span>
        ) : null}
      </p>
      <progress className="mt-1 h-1.5 w-full accent-vermilion" max={1} value={share} />
    </div>
  );
}
