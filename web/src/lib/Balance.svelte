<script lang="ts">
  import { midnightsBetween } from "./timeline";
  import type { Balance } from "./api";
  import Strip from "./Strip.svelte";
  import { dayOf } from "./words";

  let { balance }: { balance: Balance } = $props();
  const since = $derived(new Date(balance.since));
  const until = $derived(new Date(balance.until));
  const points = $derived(balance.places.flatMap((p) => p.points));
  // Two thirds of a strip are above the line, one third below. The cost is drawn
  // larger by a round factor, which is stated, so that it is visible.
  const cost = $derived(Math.max(0.001, ...points.map((p) => p.cost_seconds)));
  const most = $derived(Math.max(1, 2 * cost, ...points.map((p) => p.saved_seconds)));
  const factor = $derived([1, 2, 5, 10, 20, 50, 100].findLast((f) => cost * f <= most / 2) ?? 1);
  const midnights = $derived(midnightsBetween(since, until));
  const labels = $derived(midnights.filter((_, i) => i % Math.max(1, Math.ceil(midnights.length / 7)) === 0));
  const at = (d: Date) => ((d.getTime() - since.getTime()) / (until.getTime() - since.getTime())) * 100;
  const sorted = $derived([...balance.places].sort((a, b) => b.saved_seconds - a.saved_seconds));
</script>

<section class="sheet overflow-hidden" aria-label="Time saved and cost of sharing, by place">
  {#each sorted as place (place.place)}
    <Strip
      {place}
      {since}
      {until}
      {most}
      mostCost={most / 2 / factor}
      days={midnights.length > 31 ? labels : midnights}
    />
  {/each}
  <div
    class="grid grid-cols-[minmax(84px,150px)_1fr] gap-x-3 px-4.5 pt-1 pb-2 text-[12.5px] text-faint sm:grid-cols-[150px_1fr_140px]"
  >
    <div></div>
    <div class="relative h-5">
      {#each labels as d, i (d.getTime())}
        {#if at(d) < 94 && at(d) > 2}
          <span
            class="absolute -translate-x-1/2 whitespace-nowrap {i % 2 || at(d) > 80 ? 'max-sm:hidden' : ''}"
            style:left="{at(d)}%">{dayOf(d)}</span
          >
        {/if}
      {/each}
      <span class="absolute right-0">now</span>
    </div>
    <div class="col-span-2 text-right sm:col-span-1">{factor > 1 ? `cost drawn ${factor} ×` : "cost to scale"}</div>
  </div>
</section>
