<script lang="ts">
  import { scaleLinear } from "d3-scale";
  import { Axis, Chart, Rect, Svg } from "layerchart";
  import type { RunDetail } from "./api";
  import { lay, path } from "./timeline";
  import { seconds } from "./words";

  type Props = { run: RunDetail; now: number; picked: string; onpick: (task: string) => void };
  let { run, now, picked, onpick }: Props = $props();
  const laid = $derived(lay(run, now));
  const critical = $derived(new Set(path(run.records).map((r) => r.task)));
  const shade = (o: string) => `var(--${o === "stopped" ? "blocked" : o})`;
</script>

{#if laid.blocks.length > 0}
  <div class="px-4.5 pt-2.5 pb-2" style:height="{laid.height + 44}px">
    <Chart
      data={laid.blocks}
      x="from"
      xScale={scaleLinear()}
      xDomain={[0, laid.end]}
      y="lane"
      yScale={scaleLinear()}
      yDomain={[0, laid.lanes.length]}
      yRange={({ height }: { height: number }) => [0, height]}
      padding={{ top: 2, bottom: 24, left: 62, right: 8 }}
    >
      {#snippet children({ context })}
        <Svg title="Tasks by worker slot over time; the critical path is underlined">
          <Axis
            placement="bottom"
            grid={{ style: "stroke: var(--hair)" }}
            rule={false}
            ticks={6}
            format={(v: number) => (laid.end < 6 ? `${+v.toFixed(2)} s` : seconds(v))}
            tickLabelProps={{ style: "fill: var(--faint); font-size: 11.5px; stroke: none" }}
          />
          {#each laid.lanes as lane, i (i)}
            <text x="-62" y={lane.top + (lane.height > 20 ? 20 : 12)} font-size="12" fill="var(--soft)"
              >{lane.name}</text
            >
          {/each}
          {#each laid.blocks as b (b.task)}
            {@const x = context.xScale(b.from)}
            {@const w = Math.max(2, context.xScale(b.to) - x - 1.5)}
            {@const lane = laid.lanes[b.lane]}
            <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
            <g class="cursor-pointer" onclick={() => onpick(b.task)}>
              <title>{b.task}: {b.running ? "running" : b.outcome}, {seconds(b.to - b.from)}</title>
              <Rect
                {x}
                y={lane.top + (lane.height > 20 ? 4 : 2)}
                width={w}
                height={lane.height - (lane.height > 20 ? 10 : 5)}
                rx={3}
                fill={shade(b.outcome)}
                opacity={b.running ? 0.55 : 0.95}
                stroke={picked === b.task ? "var(--ink)" : "none"}
                strokeWidth={1.5}
              />
              {#if critical.has(b.task)}<Rect
                  {x}
                  y={lane.top + lane.height - (lane.height > 20 ? 4 : 2.5)}
                  width={w}
                  height={2.5}
                  fill="var(--ink)"
                />{/if}
              {#if lane.height > 20 && w > b.task.length * 6.6 + 16}
                <text
                  x={x + 8}
                  y={lane.top + 20.5}
                  font-size="12"
                  font-weight="560"
                  fill={b.outcome === "ran" || b.outcome === "stopped" ? "#1c2429" : "var(--sheet)"}
                  pointer-events="none">{b.task}</text
                >
              {/if}
            </g>
          {/each}
        </Svg>
      {/snippet}
    </Chart>
  </div>
{/if}
