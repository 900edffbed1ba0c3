// Numbers and times as people say them.

export function count(n: number): string {
  for (const [at, unit] of [[1e9, "B"], [1e6, "M"], [1e3, "k"]] as const) {
    if (n >= at) return `${Number((n / at).toPrecision(3))} ${unit}`;
  }
  return String(n);
}

export function bytes(n: number): string {
  for (const [at, unit] of [[1e9, "GB"], [1e6, "MB"], [1e3, "kB"]] as const) {
    if (n >= at) return `${(n / at).toFixed(1)} ${unit}`;
  }
  return `${n} B`;
}

export function milliseconds(ms: number): string {
  if (ms < 10) return `${ms.toFixed(1)} ms`;
  if (ms < 1000) return `${Math.round(ms)} ms`;
  return `${(ms / 1000).toFixed(1)} s`;
}

export function ago(iso: string): string {
  const seconds = (Date.now() - Date.parse(iso)) / 1000;
  if (seconds < 60) return "just now";
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 48 * 3600) return `${Math.floor(seconds / 3600)} h ago`;
  return day(new Date(iso));
}

export const message = (e: unknown) => (e instanceof Error ? e.message : String(e));

/** A length of time, from seconds. */
export function span(seconds: number): string {
  if (seconds < 60) return `${Math.ceil(seconds)} s`;
  if (seconds < 3600) return `${Math.ceil(seconds / 60)} min`;
  return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`;
}

/** A day as 2031-01-31, where the browser is. */
export const day = (at: Date) => `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`;

/** The time of day, with the day if it was not today. */
export function time(iso: string): string {
  const at = new Date(iso);
  const clock = at.toLocaleTimeString([], { hourCycle: "h23" });
  return at.toDateString() === new Date().toDateString() ? clock : `${day(at).slice(5)} ${clock}`;
}
