<script lang="ts">
  import { scaleTime } from "d3-scale";
  import { area, stack } from "d3-shape";
  import type { Cache } from "./api";
  import { bytes, dayOf } from "./words";

  // What the cache held at the end of each day, by shelf.
  let { growth }: { growth: Cache["growth"] } = $props();
  let width = $state(600);
  const height = 150;
  const days = $derived([...new Set(growth.map((g) => g.day))].sort());
  const sizes = $derived.by(() => {
    // eslint-disable-next-line svelte/prefer-svelte-reactivity -- not followed by anything
    const sum = new Map<string, number>();
    for (const g of growth) sum.set(g.shelf, Math.max(sum.get(g.shelf) ?? 0, g.bytes));
    return [...sum].sort((a, b) => b[1] - a[1]).map(([shelf]) => shelf);
  });
  const shelves = $derived(sizes.length > 6 ? [...sizes.slice(0, 5), "others"] : sizes);
  const shades = ["var(--fetched)", "var(--restored)", "var(--cached)", "var(--current)", "var(--ran)", "var(--faint)"];
  const rows = $derived(
    days.map((day) => {
      const row: Record<string, number> = Object.fromEntries(shelves.map((s) => [s, 0]));
      for (const g of growth) if (g.day === day) row[shelves.includes(g.shelf) ? g.shelf : "others"] += g.bytes;
      return row;
    }),
  );
  const layers = $derived(stack<Record<string, number>>().keys(shelves)(rows));
  const most = $derived(Math.max(1, ...layers.flatMap((l) => l.map((p) => p[1]))));
  const x = $derived(scaleTime([new Date(days[0]), new Date(days[days.length - 1])], [0, width]));
  const shape = $derived(
    area<[number, number]>()
      .x((_, i) => (days.length === 1 ? (i === 0 ? 0 : width) : x(new Date(days[i]))))
      .y0((p) => height - 20 - (p[0] / most) * (height - 26))
      .y1((p) => height - 20 - (p[1] / most) * (height - 26)),
  );
</script>

<div class="mx-4.5 overflow-hidden pb-2" bind:clientWidth={width}>
  {#if days.length > 1}
    <svg
      {width}
      {height}
      viewBox="0 0 {width} {height}"
      role="img"
      class="block"
      aria-label="Size by shelf, from {days[0]} to {days[days.length - 1]}"
    >
      {#each layers as l, i (l.key)}<path d={shape(l as unknown as [number, number][])} fill={shades[i]}
          ><title>{l.key}</title></path
        >{/each}
      <text x="0" y={height - 4} font-size="11.5" fill="var(--faint)">{dayOf(new Date(days[0]))}</text>
      <text x={width} y={height - 4} text-anchor="end" font-size="11.5" fill="var(--faint)"
        >{dayOf(new Date(days[days.length - 1]))}</text
      >
    </svg>
    <div class="flex flex-wrap gap-x-4 small">
      {#each shelves as s, i (s)}<span class="inline-flex items-center gap-1.5"
          ><svg width="10" height="10" aria-hidden="true"><rect width="10" height="10" rx="2" fill={shades[i]} /></svg
          ><code>{s}</code>
          {bytes(rows[rows.length - 1]?.[s] ?? 0)}</span
        >{/each}
    </div>
  {:else}<p class="small">Growth is shown from the second day on: the service notes the sizes once a day.</p>{/if}
</div>
