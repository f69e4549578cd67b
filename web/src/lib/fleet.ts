// What requests say, in words and as commands.
import type { Ask } from "./api";
import { counted } from "./words";

/** The tasks of a request, as the person named them. */
export const whatOf = (a: Ask): string =>
  [...a.tasks, a.pick ? `--pick ${quoted(a.pick)}` : "", a.since ? `--since ${quoted(a.since)}` : ""]
    .filter(Boolean)
    .join(" ") + (a.preview ? " (preview)" : "");

export const revisionOf = (a: Ask): string =>
  [a.branch, a.commit?.slice(0, 8), a.changes ? `+ ${counted(a.changes.files, "file")}` : ""].filter(Boolean).join(" ");

/** A word as a shell reads it. */
export const quoted = (s: string): string => (/^[\w@./:*=-]+$/.test(s) ? s : `'${s.replaceAll("'", `'\\''`)}'`);

/** The words of a text; what is in single quotes may contain blanks. */
export const wordsOf = (text: string): string[] =>
  (text.match(/(?:'[^']*'|\\.|[^\s'\\])+/g) ?? []).map((w) => w.replace(/'([^']*)'|\\(.)/g, "$1$2"));

const priorities: Record<number, string> = { 1: "high", 3: "low" };

/** The command that makes the same request. */
export function commandOf(a: Ask): string {
  const words = ["grayloft request", ...a.tasks.map(quoted)];
  if (a.pick) words.push("--pick", quoted(a.pick));
  if (a.since) words.push("--since", quoted(a.since));
  if (a.branch && !a.commit) words.push("--branch", quoted(a.branch));
  if (a.commit) words.push("--commit", a.commit);
  words.push("--pool", quoted(a.pool));
  for (const m of a.modes ?? []) words.push("--mode", quoted(m));
  for (const s of a.sets ?? []) words.push("--set", quoted(s));
  if (a.priority && priorities[a.priority]) words.push("--priority", priorities[a.priority]);
  if ((a.spread ?? 1) > 1) words.push("--spread", String(a.spread));
  if (a.preview) words.push("--preview");
  if (a.no_reuse) words.push("--no-reuse");
  if (a.keep_going) words.push("--keep-going");
  if (a.args?.length) words.push("--", ...a.args.map(quoted));
  return words.join(" ");
}

const commit = /^([0-9a-f]{40}|[0-9a-f]{64})$/;

/** A revision that a person typed: the full id of a commit, or a branch. */
export const revision = (text: string): Pick<Ask, "branch" | "commit"> =>
  commit.test(text) ? { commit: text } : { branch: text };
