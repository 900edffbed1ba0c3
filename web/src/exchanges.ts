// The newest exchanges, kept up to date by the feed.
import { useCallback, useEffect, useRef, useState } from "react";
import * as api from "./api";
import { useFeed } from "./feed";
import { message } from "./words";

/** How often what has come is shown, and a list that is filtered is asked for anew, in milliseconds; and how long a list grows by itself. */
const shownEvery = 200;
const askedEvery = 500;
const longest = 2000;

/** The newest exchanges that fit, since a time if one is given. */
export function useExchanges(filter: api.Filter, length = api.pageLength, since?: string) {
  const [list, setList] = useState<api.Exchange[]>();
  const [more, setMore] = useState(false);
  const [problem, setProblem] = useState("");
  const seen = useRef(new Map<string, api.Exchange>()); // what the feed told; a page may be older than that
  const asked = useRef(0);

  const load = useCallback(async () => {
    const question = ++asked.current;
    seen.current.clear();
    try {
      const page = (await api.exchanges(filter, undefined, length, since)).exchanges;
      if (question !== asked.current) return; // another one has been asked since
      const later = [...seen.current.values()].reverse().filter((e) => !page.some((p) => p.id === e.id));
      setList([...later, ...page.map((e) => seen.current.get(e.id) ?? e)]);
      setMore(page.length === length);
      setProblem("");
    } catch (e) {
      if (question === asked.current) setProblem(message(e));
    }
  }, [filter, length, since]);

  // What comes is shown a few times a second, however fast it comes.
  const pending = useRef<api.Exchange[]>([]);
  const timer = useRef<number>(undefined);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  function show() {
    timer.current = undefined;
    const news = pending.current;
    pending.current = [];
    setList((old) => {
      const next = old && merged(old, news);
      if (old && next && next.length < old.length + news.length) window.setTimeout(() => setMore((more) => more || next.at(-1)?.id !== old.at(-1)?.id)); // what had to go can be turned to
      return next;
    });
  }

  async function again() {
    timer.current = undefined;
    const question = ++asked.current;
    try {
      const page = (await api.exchanges(filter, undefined, length, since)).exchanges;
      // Pages that were turned to before stay.
      if (question === asked.current) setList((old) => [...page, ...(page.length < length ? [] : (old ?? []).filter((e) => !page.some((p) => p.id === e.id)))]);
    } catch (e) {
      if (question === asked.current) setProblem(message(e));
    }
  }

  const opened = useRef(false);
  const { broken } = useFeed(
    (e) => {
      if (Object.values(filter).some(Boolean)) {
        // Which ones a filter chooses is the gate's to say.
        timer.current ??= window.setTimeout(() => void again(), askedEvery);
        return;
      }
      seen.current.set(e.id, e);
      pending.current.push(e);
      timer.current ??= window.setTimeout(show, shownEvery);
    },
    () => {
      opened.current = true;
      void load();
    },
  );
  useEffect(() => {
    if (!opened.current) return; // it is asked when the feed is there, so that nothing falls between
    setList(undefined);
    void load();
  }, [load]);

  async function older() {
    try {
      const page = (await api.exchanges(filter, list?.at(-1)?.id, length)).exchanges;
      setList((old) => [...(old ?? []), ...page]);
      setMore(page.length === length);
    } catch (e) {
      setProblem(message(e));
    }
  }
  return { list, more, older, problem: broken ? "The gate is unreachable. What happens meanwhile shows up here when it is back." : problem };
}

/** Puts exchanges where they belong: in their own places if they are there already, else at the top. The oldest make room. */
function merged(list: api.Exchange[], news: api.Exchange[]) {
  const latest = new Map(news.map((e) => [e.id, e])); // of several about the same, the last
  const kept = list.map((e) => {
    const told = latest.get(e.id);
    latest.delete(e.id);
    return told ?? e;
  });
  return [...[...latest.values()].reverse(), ...kept].slice(0, Math.max(list.length, longest));
}
