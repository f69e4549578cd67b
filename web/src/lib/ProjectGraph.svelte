<script lang="ts">
  import { Background, Controls, MiniMap, SvelteFlow, type Edge, type Node } from "@xyflow/svelte";
  import "@xyflow/svelte/dist/style.css";
  import ELK from "elkjs/lib/elk.bundled.js";
  import { untrack } from "svelte";
  import type { GraphNode } from "./projects";

  // The graph of projects, laid out in layers: a project is left of those that it
  // needs. A large one begins where it can be read: at the project that is picked,
  // or the one that most others need, with a map of the whole.
  type Props = { nodes: GraphNode[]; picked: string; onpick: (id: string) => void };
  let { nodes, picked, onpick }: Props = $props();
  let flow = $state.raw<Node[]>([]);
  let edges = $state.raw<Edge[]>([]);
  let laying = $state(true);
  const elk = new ELK();
  let asked = 0;

  async function lay(list: GraphNode[]) {
    const mine = ++asked;
    laying = true;
    const known = new Set(list.map((n) => n.id));
    const links = list.flatMap((n) =>
      n.needs.filter((m) => known.has(m)).map((m) => ({ id: `${n.id}>${m}`, sources: [n.id], targets: [m] })),
    );
    const label = (n: GraphNode) => (n.count > 1 ? `${n.name} (${n.count})` : n.name);
    const width = (n: GraphNode) => Math.max(90, label(n).length * 7.4 + 26);
    const out = await elk.layout({
      id: "root",
      layoutOptions: {
        "elk.algorithm": "layered",
        "elk.direction": "RIGHT",
        "elk.layered.spacing.nodeNodeBetweenLayers": "64",
        "elk.spacing.nodeNode": "14",
        "elk.aspectRatio": "2.4",
        // Columns without gaps: more of a large graph is seen at once.
        ...(list.length > 120 ? { "elk.layered.nodePlacement.strategy": "SIMPLE" } : {}),
        ...(list.length > 400 ? { "elk.layered.crossingMinimization.strategy": "NONE" } : {}),
      },
      children: list.map((n) => ({ id: n.id, width: width(n), height: 34 })),
      edges: links,
    });
    if (mine !== asked) return;
    const by = new Map(list.map((n) => [n.id, n]));
    flow = (out.children ?? []).map((c) => {
      const n = by.get(c.id)!;
      return {
        id: c.id,
        position: { x: c.x ?? 0, y: c.y ?? 0 },
        data: { label: label(n) },
        width: c.width,
        height: c.height,
        sourcePosition: "right",
        targetPosition: "left",
        draggable: false,
        connectable: false,
        ariaLabel: `${n.name}, needs ${n.needs.length}`,
        class: n.failed ? "node-failed" : "",
      } as Node;
    });
    edges = links.map((l) => ({
      id: l.id,
      source: l.sources[0],
      target: l.targets[0],
      focusable: false,
      selectable: false,
    }));
    laying = false;
  }
  $effect(() => {
    const list = nodes;
    untrack(() => lay(list));
  });
  const large = $derived(nodes.length > 120);
  const middle = $derived.by(() => {
    if (!large || nodes.some((n) => n.id === picked)) return picked;
    const needed: Record<string, number> = {};
    for (const n of nodes) for (const m of n.needs) needed[m] = (needed[m] ?? 0) + 1;
    return Object.keys(needed).sort((a, b) => needed[b] - needed[a] || a.localeCompare(b))[0] ?? nodes[0]?.id;
  });
  const shownEdges = $derived(
    edges.map((e) => ({ ...e, class: picked && (e.source === picked || e.target === picked) ? "edge-on" : "" })),
  );
  const shownNodes = $derived(flow.map((n) => ({ ...n, selected: n.id === picked })));
</script>

<div class="relative h-[60vh]" aria-busy={laying}>
  {#key flow}
    <SvelteFlow
      nodes={shownNodes}
      edges={shownEdges}
      fitView
      fitViewOptions={large ? { nodes: [{ id: middle }], minZoom: 0.75, maxZoom: 0.75 } : { maxZoom: 1.25 }}
      minZoom={0.05}
      maxZoom={2}
      nodesDraggable={false}
      nodesConnectable={false}
      onlyRenderVisibleElements={nodes.length > 200}
      colorMode="system"
      proOptions={{ hideAttribution: true }}
      onnodeclick={({ node }) => onpick(node.id)}
      onselectionchange={({ nodes: list }) => {
        if (list.length === 1 && list[0].id !== picked) onpick(list[0].id);
      }}
    >
      <Background gap={24} />
      <Controls showLock={false} fitViewOptions={{}} />
      {#if large}<MiniMap
          pannable
          zoomable
          width={200}
          height={120}
          nodeColor="var(--current)"
          maskColor="var(--mask)"
          bgColor="var(--sheet)"
          ariaLabel="Map of all projects"
        />{/if}
    </SvelteFlow>
  {/key}
  {#if laying}<p class="absolute top-3 left-4 small">laying out…</p>{/if}
</div>

<style>
  div :global(.svelte-flow) {
    --xy-background-color: var(--sheet);
    --xy-node-border-radius: 6px;
    --xy-node-background-color: var(--sheet);
    --xy-node-color: var(--ink);
    --xy-node-border: 1px solid var(--line);
    --xy-edge-stroke: var(--current);
    --xy-background-pattern-color: var(--hair);
    --mask: color-mix(in srgb, var(--paper) 70%, transparent);
  }
  div :global(.svelte-flow__node) {
    font-family: var(--font-mono);
    font-size: 12px;
    padding: 7px 10px;
  }
  div :global(.svelte-flow__node.selected) {
    border-color: var(--copper);
    background: var(--copper-wash);
    box-shadow: none;
  }
  div :global(.node-failed) {
    border-color: var(--failed);
  }
  div :global(.edge-on path) {
    stroke: var(--copper);
    stroke-width: 2;
  }
  div :global(.svelte-flow__handle) {
    visibility: hidden;
  }
</style>
