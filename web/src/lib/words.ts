// Formats for numbers and times.

export const seconds = (s: number): string => {
  const sign = s < 0 ? "−" : "";
  const a = Math.abs(s);
  if (a < 0.9995) return `${sign}${Math.round(a * 1000)} ms`;
  if (a < 9.95) return `${sign}${a.toFixed(1)} s`;
  if (a < 59.5) return `${sign}${Math.round(a)} s`;
  if (a < 3599.5) {
    const n = Math.round(a);
    return `${sign}${Math.floor(n / 60)} m ${String(n % 60).padStart(2, "0")} s`;
  }
  const n = Math.round(a / 60);
  return `${sign}${Math.floor(n / 60)} h ${String(n % 60).padStart(2, "0")} m`;
};

export const bytes = (n: number): string => {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let i = 0;
  while (n >= 999.5 && i < units.length - 1) {
    n /= 1000;
    i++;
  }
  return `${i === 0 || n >= 9.95 ? n.toFixed(0) : n.toFixed(1)} ${units[i]}`;
};

/** A speed in bits per second, from bytes and seconds. */
export const speed = (n: number, s: number): string => {
  if (s <= 0 || n <= 0) return "–";
  const bits = (n * 8) / s;
  if (bits < 1e6) return `${(bits / 1e3).toFixed(0)} kbit/s`;
  if (bits < 1e9) return `${(bits / 1e6).toFixed(bits < 1e7 ? 1 : 0)} Mbit/s`;
  return `${(bits / 1e9).toFixed(1)} Gbit/s`;
};

export const percent = (part: number | null): string => (part === null ? "–" : `${Math.round(part * 100)} %`);

const hours = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const weekday = new Intl.DateTimeFormat(undefined, { weekday: "short" });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const whole = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "long" });

export const exact = (at: string | Date): string => whole.format(new Date(at));

/** 09:42 today, Sun 23:00 this week, 3 Nov 10:12 before. */
export const when = (at: string | Date, now = new Date()): string => {
  const t = new Date(at);
  if (t.toDateString() === now.toDateString()) return hours.format(t);
  if (now.getTime() - t.getTime() < 6 * 86400_000) return `${weekday.format(t)} ${hours.format(t)}`;
  return `${day.format(t)} ${hours.format(t)}`;
};

const numbers = new Intl.NumberFormat("en");
export const many = (n: number): string => numbers.format(n).replaceAll(",", "\u202f");

export const timeOf = (at: Date): string => hours.format(at);
export const dayOf = (at: Date): string => day.format(at);

export const counted = (n: number, one: string, many = `${one}s`): string =>
  n === 1 ? `1 ${one}` : `${numbers.format(n).replaceAll(",", "\u202f")} ${many}`;

export const outcomes = [
  "current",
  "cached",
  "restored",
  "fetched",
  "ran",
  "failed",
  "blocked",
  "stopped",
  "not-started",
] as const;

/** The reasons why a task runs, as the legend explains them. */
export const reasons: Record<string, string> = {
  "no-reuse": "the run was started with --no-reuse",
  "reuse-never": "its reuse is “never”",
  "no-writes": "the writes of the task or of a dependency are not declared",
  new: "there was no earlier run and no shared result",
  declaration: "its declaration changed",
  setting: "a setting it uses changed",
  environment: "an environment variable it declares changed",
  probe: "the output of a probe changed",
  files: "a file it reads changed",
  upstream: "the outputs of a dependency changed",
  outputs: "its outputs were missing or altered, and no copy was left",
  "failed-before": "its last run failed or was stopped",
  unkept: "outputs of the task or of a dependency could not be kept, so nobody knows that they are the same",
  evicted: "the shared cache no longer had its result",
  faster: "running was faster than fetching there",
};

/** The states of a request, as the legend explains them. */
export const states: Record<string, string> = {
  queued: "waits for a runner",
  running: "a runner carries it out",
  passed: "all its tasks passed",
  failed: "a task failed, or it could not start",
  cancelled: "somebody cancelled it",
  lost: "its runners disappeared, three times",
};

/** The kinds of advice, as the legend explains them. */
export const advices: Record<string, string> = {
  flaky: "it failed and passed with the same inputs",
  "not-reproducible": "it gave different outputs for the same inputs",
  "not-worth-sharing": "fetching its outputs takes longer than running it",
  "reruns-for-nothing": "a file makes it run again, but its outputs stay the same",
  "never-shared": "the same work is done again, because its declaration does not let it be shared",
  "places-differ": "results are not reused between places, because one ingredient differs",
  "long-pole": "most runs wait for it",
};
