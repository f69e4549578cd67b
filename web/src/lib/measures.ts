import type { Figures } from "./api";
import { bytes, counted, many, percent, seconds, speed } from "./words";

/** What the balance can show: a part above the line, and one below it. */
export type Measure = {
  id: string;
  name: string;
  above: (f: Figures) => number;
  below: (f: Figures) => number;
  sayAbove: (f: Figures) => string;
  sayBelow: (f: Figures) => string;
  fill: [string, string];
  text: [string, string];
  share?: boolean; // from 0 to 1, and not to be added up
};

const hitRate = (f: Figures) => (f.reused + f.executed > 0 ? f.reused / (f.reused + f.executed) : 0);

export const measures: Measure[] = [
  {
    id: "saved",
    name: "Time saved",
    above: (f) => Math.max(0, f.saved_seconds),
    below: (f) => f.cost_seconds,
    sayAbove: (f) => `${seconds(f.saved_seconds)} saved`,
    sayBelow: (f) => `${seconds(f.cost_seconds)} to share`,
    fill: ["var(--saved)", "var(--cost)"],
    text: ["text-saved", "text-cost"],
  },
  {
    id: "transferred",
    name: "Transferred",
    above: (f) => f.bytes_in,
    below: (f) => f.bytes_out,
    sayAbove: (f) => `${bytes(f.bytes_in)} in, ${speed(f.bytes_in, f.fetch_seconds)}`,
    sayBelow: (f) => `${bytes(f.bytes_out)} out`,
    fill: ["var(--fetched)", "var(--cost)"],
    text: ["", "text-cost"],
  },
  {
    id: "duration",
    name: "Duration",
    above: (f) => (f.runs > 0 ? f.seconds / f.runs : 0),
    below: () => 0,
    sayAbove: (f) => `${seconds(f.runs > 0 ? f.seconds / f.runs : 0)} a run`,
    sayBelow: (f) => `${seconds(f.seconds)} in total`,
    fill: ["var(--cached)", "var(--cost)"],
    text: ["", "text-soft"],
  },
  {
    id: "failures",
    name: "Failures",
    above: (f) => f.runs - f.failed,
    below: (f) => f.failed,
    sayAbove: (f) => `${many(f.runs - f.failed)} did not fail`,
    sayBelow: (f) => `${f.failed} failed`,
    fill: ["var(--current)", "var(--failed)"],
    text: ["", "text-failed"],
  },
  {
    id: "hits",
    name: "Hit rate",
    above: hitRate,
    below: () => 0,
    sayAbove: (f) => `${percent(hitRate(f))} reused`,
    sayBelow: (f) => `${counted(f.reused, "task")} of ${f.reused + f.executed}`,
    fill: ["var(--restored)", "var(--cost)"],
    text: ["", "text-soft"],
    share: true,
  },
];

export const measureOf = (id: string): Measure => measures.find((m) => m.id === id) ?? measures[0];
