import { useId, useRef, type ClipboardEvent, type DragEvent } from "react";
import { Button, Field } from "../design/controls";

/** A picture that goes with a question, as a data URL. */
export type Picture = { name: string; url: string };

const kinds = ["image/png", "image/jpeg", "image/gif", "image/webp"];

/** A file as a data URL. */
export const read = (file: File) =>
  new Promise<Picture>((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done({ name: file.name || "pasted picture", url: reader.result as string });
    reader.onerror = () => failed(reader.error ?? new Error("The file cannot be read."));
    reader.readAsDataURL(file);
  });

/** The pictures among files. */
export const picturesOf = (files: FileList | undefined | null) => [...(files ?? [])].filter((f) => kinds.includes(f.type));

/** Handlers for a place into which pictures can be pasted and dropped. */
export function takesPictures(add: (files: File[]) => void) {
  return {
    onPaste: (e: ClipboardEvent) => {
      const files = picturesOf(e.clipboardData.files);
      if (files.length === 0) return;
      e.preventDefault();
      add(files);
    },
    onDragOver: (e: DragEvent) => e.dataTransfer.types.includes("Files") && e.preventDefault(),
    onDrop: (e: DragEvent) => {
      const files = picturesOf(e.dataTransfer.files);
      if (files.length === 0) return;
      e.preventDefault();
      add(files);
    },
  };
}

export async function readPictures(files: File[]): Promise<Picture[]> {
  return Promise.all(files.map(read));
}

/** The pictures of a question: what is there, and a way to add more. */
export function Pictures({ list, change, add, said }: { list: Picture[]; change: (to: Picture[]) => void; add: (files: File[]) => void; said: string }) {
  const input = useRef<HTMLInputElement>(null);
  const id = useId();
  return (
    <Field label="Pictures" id={id}>
      <div className="flex flex-wrap items-start gap-3" data-testid="pictures">
        {list.map((p, i) => (
          <figure key={i} className="grid w-24 gap-1">
            <img src={p.url} alt={p.name} className="h-20 w-24 border border-rule object-contain" />
            <figcaption className="flex items-baseline justify-between gap-1 text-small text-faded">
              <span className="truncate">{p.name}</span>
              <button type="button" className="text-ink underline underline-offset-2" aria-label={`Remove ${p.name}`} onClick={() => change(list.filter((_, n) => n !== i))}>
                remove
              </button>
            </figcaption>
          </figure>
        ))}
        <div className="grid justify-items-start gap-1">
          <Button onClick={() => input.current?.click()}>Add a picture</Button>
          <span className="text-small text-faded">or paste or drop one; {said}</span>
        </div>
        <input
          ref={input}
          id={id}
          type="file"
          accept={kinds.join(",")}
          multiple
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => {
            add(picturesOf(e.target.files));
            e.target.value = "";
          }}
        />
      </div>
    </Field>
  );
}
