import type { RunDetail, TaskRecord } from "./api";

/** A task in the timeline of a run, in seconds since it began. */
export type Block = {
  task: string;
  outcome: TaskRecord["outcome"];
  from: number;
  to: number; // until the next task has its slot
  took: number;
  lane: number;
  running: boolean;
};
export type Lane = { name: string; top: number; height: number };

/** Heights in pixels: of a lane of work, and of a lane of transfers. */
const tall = 34;
const flat = 16;

/** Lays out the tasks of a run: a lane for each worker slot, and below them as
 * many lanes as the transfers need. */
export function lay(
  run: RunDetail,
  now: number,
  names?: string[],
): { lanes: Lane[]; blocks: Block[]; end: number; height: number } {
  const blocks: Block[] = [];
  const slots = Math.max(0, ...run.records.map((r) => r.slot), ...run.starts.map((s) => s.slot));
  const lanes: Lane[] = Array.from({ length: slots }, (_, i) => ({
    name: names?.[i] ?? `slot ${i + 1}`,
    top: i * tall,
    height: tall,
  }));
  const last: (Block | undefined)[] = []; // in each slot
  const take = (block: Block) => {
    const before = last[block.lane]; // may still have been kept when the next task got its slot
    if (before && before.to > block.from) before.to = block.from;
    last[block.lane] = block;
    blocks.push(block);
  };
  const busy: number[] = []; // the end of the last block in each lane of transfers
  for (const r of [...run.records].sort((a, b) => a.at - b.at)) {
    const transferred = r.outcome === "fetched" || r.outcome === "restored";
    if (r.slot === 0 && !transferred) continue;
    const block = {
      task: r.task,
      outcome: r.outcome,
      from: r.at,
      to: r.at + r.seconds,
      took: r.seconds,
      running: false,
    };
    if (r.slot > 0) {
      take({ ...block, lane: r.slot - 1 });
      continue;
    }
    let lane = busy.findIndex((until) => until <= r.at);
    if (lane < 0) lane = busy.length;
    busy[lane] = block.to;
    blocks.push({ ...block, lane: slots + lane });
  }
  busy.forEach((_, i) => lanes.push({ name: i === 0 ? "transfers" : "", top: slots * tall + i * flat, height: flat }));
  const end = run.running ? now : Math.max(run.seconds, ...blocks.map((b) => b.to));
  for (const s of run.starts) {
    const to = Math.max(end, s.at);
    take({ task: s.task, outcome: "ran", from: s.at, to, took: to - s.at, lane: s.slot - 1, running: true });
  }
  return { lanes, blocks, end: Math.max(end, 0.05), height: slots * tall + busy.length * flat };
}

/** The parts of a run of several machines as one run: the work of each, without what they
 * fetched from each other. The names are those of the slots, by machine. */
export function together(members: RunDetail[]): { run: RunDetail; names: string[] } {
  const start = Math.min(...members.map((m) => Date.parse(m.started)));
  const names: string[] = [];
  const records: TaskRecord[] = [];
  const starts: RunDetail["starts"] = [];
  let end = 0;
  for (const m of members) {
    const late = (Date.parse(m.started) - start) / 1000;
    const work = m.records.filter((r) => r.slot > 0);
    const slots = Math.max(1, ...work.map((r) => r.slot), ...m.starts.map((s) => s.slot));
    for (const r of work) records.push({ ...r, at: r.at + late, slot: r.slot + names.length });
    for (const s of m.starts) starts.push({ ...s, at: s.at + late, slot: s.slot + names.length });
    for (let i = 1; i <= slots; i++) names.push(i === 1 ? m.place || m.host : "");
    end = Math.max(end, late + m.seconds);
  }
  return { run: { ...members[0], records, starts, seconds: end, running: members.some((m) => m.running) }, names };
}

/** The critical path of a run: the task that ended last, the dependency that
 * it waited for longest, and so on. */
export function path(records: TaskRecord[]): TaskRecord[] {
  const by = new Map(records.map((r) => [r.task, r]));
  const end = (r: TaskRecord) => r.at + r.seconds;
  const worked = records.filter((r) => ["ran", "failed", "fetched", "restored"].includes(r.outcome));
  const out: TaskRecord[] = [];
  let at = worked.reduce<TaskRecord | undefined>((last, r) => (!last || end(r) > end(last) ? r : last), undefined);
  while (at && !out.includes(at)) {
    out.unshift(at);
    let next: TaskRecord | undefined;
    const seen = new Set<string>();
    const look = (names: readonly string[] = []) => {
      for (const name of names) {
        if (seen.has(name)) continue;
        seen.add(name);
        const r = by.get(name);
        if (!r) continue;
        if (!worked.includes(r))
          look(r.dependencies); // it took no time: its own dependencies count
        else if (!next || end(r) > end(next)) next = r;
      }
    };
    look(at.dependencies);
    at = next;
  }
  return out;
}

/** The midnights between two moments, in local time. */
export function midnightsBetween(since: Date, until: Date): Date[] {
  const out: Date[] = [];
  for (let day = 1; ; day++) {
    const midnight = new Date(since.getFullYear(), since.getMonth(), since.getDate() + day);
    if (midnight >= until) return out;
    out.push(midnight);
  }
}
