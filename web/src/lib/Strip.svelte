<script lang="ts">
  import { scaleTime } from "d3-scale";
  import type { GroupBalance } from "./api";
  import type { Measure } from "./measures";
  import { counted, exact } from "./words";

  // One group over time: one part of the measure is above the line, the other
  // below it. All strips of a page share one scale for each.
  type Props = {
    group: GroupBalance;
    measure: Measure;
    since: Date;
    until: Date;
    interval: number;
    most: number;
    mostBelow: number;
    days: Date[];
    onname?: () => void;
  };
  let { group, measure, since, until, interval, most, mostBelow, days, onname }: Props = $props();
  let width = $state(600);
  const height = 74;
  const line = $derived(mostBelow > 0 ? 50 : 70);
  const x = $derived(scaleTime([since, until], [0, width]));
  const bar = $derived(
    Math.max(1.2, Math.min(14, (interval * 1000 * width) / (until.getTime() - since.getTime()) - 0.8)),
  );
</script>

<div
  class="grid grid-cols-[minmax(84px,150px)_1fr] items-center gap-x-3 border-b border-hair px-4.5 py-1.5 sm:grid-cols-[150px_1fr_150px]"
>
  <div class="min-w-0">
    {#if onname}<button
        class="block max-w-full truncate text-left font-semibold hover:text-copper"
        title="only {group.name}"
        onclick={onname}>{group.name || "(none)"}</button
      >{:else}<div class="truncate font-semibold">{group.name || "(none)"}</div>{/if}
    <div class="small truncate">{counted(group.total.runs, "run")}</div>
  </div>
  <div class="min-w-0" bind:clientWidth={width}>
    <svg
      {width}
      {height}
      viewBox="0 0 {width} {height}"
      class="block"
      role="img"
      aria-label="{group.name}: {measure.sayAbove(group.total)}, {measure.sayBelow(group.total)}"
    >
      {#each days as d (d.getTime())}<line x1={x(d)} x2={x(d)} y1="0" y2={height} stroke="var(--hair)" />{/each}
      {#each group.points as p (p.at)}
        {@const at = x(new Date(p.at)) - bar / 2}
        {@const up = measure.above(p) > 0 ? Math.max(1.2, (measure.above(p) / most) * (line - 2)) : 0}
        {@const down = measure.below(p) > 0 ? Math.max(1.2, (measure.below(p) / mostBelow) * (height - line - 3)) : 0}
        <g>
          <title>{exact(p.at)}: {counted(p.runs, "run")}, {measure.sayAbove(p)}, {measure.sayBelow(p)}</title>
          <rect x={at} y={line - up} width={bar} height={up} rx="1" fill={measure.fill[0]} />
          <rect x={at} y={line + 1} width={bar} height={down} rx="1" fill={measure.fill[1]} />
          {#if up === 0 && down === 0}<rect x={at} y={line - 0.5} width={bar} height="1.5" fill="var(--faint)" />{/if}
        </g>
      {/each}
      <line x1="0" x2={width} y1={line} y2={line} stroke="var(--faint)" />
    </svg>
  </div>
  <div class="col-span-2 text-right sm:col-span-1">
    <div class={measure.text[0]}>{measure.sayAbove(group.total)}</div>
    <div class="text-[12.5px] {measure.text[1]}">{measure.sayBelow(group.total)}</div>
  </div>
</div>
