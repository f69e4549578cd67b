<script lang="ts">
  import { scaleTime, scaleLinear } from "d3-scale";
  import { Chart, Rect, Rule, Svg } from "layerchart";
  import type { PlaceBalance } from "./api";
  import { counted, exact, seconds } from "./words";

  // One place over time: time saved is above the line, the cost of sharing below
  // it. All strips of a page share one scale for each.
  type Props = { place: PlaceBalance; since: Date; until: Date; most: number; mostCost: number; days: Date[] };
  let { place, since, until, most, mostCost, days }: Props = $props();
  const points = $derived(place.points.map((p) => ({ ...p, date: new Date(p.at) })));
</script>

<div
  class="grid grid-cols-[minmax(84px,150px)_1fr] items-center gap-x-3 border-b border-hair px-4.5 py-1.5 sm:grid-cols-[150px_1fr_140px]"
>
  <div class="min-w-0">
    <div class="truncate font-semibold">{place.place}</div>
    <div class="small truncate">{counted(place.people, "user")}, {counted(place.runs, "run")}</div>
  </div>
  <div class="h-[78px] min-w-0">
    <Chart
      data={points}
      x="date"
      xScale={scaleTime()}
      xDomain={[since, until]}
      y="saved_seconds"
      yScale={scaleLinear()}
      yDomain={[-1, 2]}
      yRange={({ height }: { height: number }) => [height, 0]}
      padding={{ top: 2, bottom: 2, left: 0, right: 0 }}
    >
      {#snippet children({ context })}
        <Svg
          title={`${place.place}: ${seconds(place.saved_seconds)} saved, ${seconds(place.cost_seconds)} spent on sharing`}
        >
          {#each days as d (d.getTime())}<Rule x={d} stroke="var(--hair)" />{/each}
          {#each points as p (p.at)}
            {@const x = context.xScale(p.date) - 1.7}
            {@const line = context.yScale(0)}
            {@const up = p.saved_seconds > 0 ? Math.max(1.2, (p.saved_seconds / most) * (line - 2)) : 0}
            {@const down =
              p.cost_seconds > 0.05 ? Math.max(1.2, (p.cost_seconds / mostCost) * (context.height - line - 2)) : 0}
            <g>
              <title
                >{exact(p.date)}: {counted(p.runs, "run")}, {seconds(p.saved_seconds)} saved, {seconds(p.cost_seconds)} spent
                on sharing</title
              >
              <Rect {x} y={line - up} width={3.4} height={up} rx={1} fill="var(--saved)" />
              <Rect {x} y={line + 1} width={3.4} height={down} rx={1} fill="var(--cost)" />
              {#if up === 0 && down === 0}<Rect {x} y={line - 0.5} width={3.4} height={1.5} fill="var(--faint)" />{/if}
            </g>
          {/each}
          <Rule y={0} stroke="var(--faint)" />
        </Svg>
      {/snippet}
    </Chart>
  </div>
  <div class="col-span-2 text-right sm:col-span-1">
    <div class="text-saved">{seconds(place.saved_seconds)} saved</div>
    <div class="text-[12.5px] text-cost">{seconds(place.cost_seconds)} to share</div>
  </div>
</div>
