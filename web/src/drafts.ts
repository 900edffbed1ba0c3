import { useCallback, useState } from "react";

const drafts = new Map<string, unknown>();

/** State that is still there when a screen is come back to: a question half written must not be lost by a look at another. */
export function useDraft<T>(name: string, begin: T): [T, (to: T | ((old: T) => T)) => void] {
  const [value, setValue] = useState<T>(() => (drafts.has(name) ? (drafts.get(name) as T) : begin));
  const set = useCallback(
    (to: T | ((old: T) => T)) =>
      setValue((old) => {
        const next = typeof to === "function" ? (to as (old: T) => T)(old) : to;
        drafts.set(name, next);
        return next;
      }),
    [name],
  );
  return [value, set];
}
