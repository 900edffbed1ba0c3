import { useRef, useState, type FormEvent } from "react";
import * as api from "../api";
import { Button, Field, Input } from "../design/controls";
import { useAct } from "../queries";

export function SignIn() {
  const [key, setKey] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const signIn = useAct(api.signIn, { changes: ["status"] });

  function submit(e: FormEvent) {
    e.preventDefault();
    if (signIn.isPending) return;
    signIn.mutate(key.trim(), { onError: () => input.current?.select() }); // the next key that is pasted takes its place
  }

  return (
    <main className="mx-auto grid max-w-5xl gap-x-16 gap-y-10 px-5 pt-[14vh] pb-10 md:grid-cols-[1fr_24rem]">
      <div className="border-l border-rule pl-8">
        <p className="font-serif text-[3.25rem] leading-none">
          Kindred <em>Gate</em>
        </p>
        <p className="mt-5 max-w-md text-large text-faded">
          The models on this computer, behind one address and keys of your own. Applications need no more than the two.
        </p>
        <dl className="mt-10 grid max-w-md grid-cols-[max-content_1fr] gap-x-6 gap-y-2 border-t border-rule pt-4">
          <dt className="text-faded">Base URL</dt>
          <dd className="tabular">{new URL("v1", document.baseURI).href}</dd>
        </dl>
      </div>
      <form onSubmit={submit} className="grid content-start gap-5">
        <h1 className="font-serif text-title leading-tight">Sign in</h1>
        <Field
          label="Owner key"
          id="owner-key"
          help="The gate wrote it to the file owner.key in its data folder when it first started; it prints the folder at every start."
          wrong={signIn.error?.message}
        >
          <Input ref={input} type="password" autoComplete="current-password" autoFocus spellCheck={false} placeholder="kg_…" value={key} onChange={(e) => setKey(e.target.value)} className="tabular" />
        </Field>
        <Button type="submit" weight="primary" busy={signIn.isPending} disabled={!key.trim()} className="h-10">
          Sign in
        </Button>
        <p className="text-small text-faded">The key is exchanged for a cookie that scripts cannot read. It is not kept in this page.</p>
      </form>
    </main>
  );
}
