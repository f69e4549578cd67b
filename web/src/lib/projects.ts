import type { ProjectRow } from "./api";

/** A node of the graph: a project, or several that are shown as one. */
export type GraphNode = { id: string; name: string; needs: string[]; count: number; failed: boolean };

/** Which projects are shown as one. */
export type Grouping = "" | "directory" | "tag";

const groupOf = (p: ProjectRow, by: Grouping): string =>
  by === "directory"
    ? p.dir.split("/").slice(0, -1).join("/") || p.dir
    : by === "tag"
      ? p.tags[0]
        ? `tag:${p.tags[0]}`
        : "(no tag)"
      : p.name;

/** The nodes of a graph of projects, collapsed by directory or tag. */
export function nodesOf(list: ProjectRow[], by: Grouping): GraphNode[] {
  const of = new Map(list.map((p) => [p.name, groupOf(p, by)]));
  const out = new Map<string, GraphNode>();
  for (const p of list) {
    const id = of.get(p.name)!;
    const node = out.get(id) ?? { id, name: id, needs: [], count: 0, failed: false };
    node.count++;
    node.failed ||= p.failed > 0;
    for (const n of p.needs) {
      const to = of.get(n);
      if (to && to !== id && !node.needs.includes(to)) node.needs.push(to);
    }
    out.set(id, node);
  }
  return [...out.values()];
}

/** Everything that a project needs, or that needs it, directly or not. */
export function closure(list: ProjectRow[], start: string, dependents: boolean): Set<string> {
  const next = new Map<string, string[]>(list.map((p) => [p.name, dependents ? [] : p.needs]));
  if (dependents) for (const p of list) for (const n of p.needs) next.get(n)?.push(p.name);
  const seen = new Set<string>();
  const todo = [start];
  for (let at = todo.pop(); at !== undefined; at = todo.pop())
    for (const n of next.get(at) ?? [])
      if (!seen.has(n)) {
        seen.add(n);
        todo.push(n);
      }
  return seen;
}
