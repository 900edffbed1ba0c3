import { useCallback, useEffect, useState } from "react";
import { GateError } from "./api";

export type Loaded<T> = { data?: T; error?: GateError; reload: () => Promise<void> };

/** Loads something now, when it is told to, and, if `every` is given, once in so many milliseconds. */
export function useLoad<T>(load: () => Promise<T>, every?: number): Loaded<T> {
  const [state, setState] = useState<{ data?: T; error?: GateError }>({});
  const reload = useCallback(async () => {
    try {
      setState({ data: await load() });
    } catch (e) {
      const error = e instanceof GateError ? e : new GateError(0, "", String(e));
      setState((old) => ({ data: old.data, error }));
    }
  }, [load]);
  useEffect(() => {
    void reload();
    if (!every) return;
    const timer = window.setInterval(() => void reload(), every);
    return () => window.clearInterval(timer);
  }, [reload, every]);
  return { ...state, reload };
}
