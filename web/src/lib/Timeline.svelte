<script lang="ts">
  import { scaleLinear } from "d3-scale";
  import type { RunDetail } from "./api";
  import { lay, path } from "./timeline";
  import { seconds } from "./words";

  // When each task ran, by slot. The arrow keys go from bar to bar.
  type Props = { run: RunDetail; now: number; picked: string; onpick: (task: string) => void; names?: string[] };
  let { run, now, picked, onpick, names }: Props = $props();
  const laid = $derived(lay(run, now, names));
  const bars = $derived([...laid.blocks].sort((a, b) => a.from - b.from || a.lane - b.lane));
  const critical = $derived(
    new Set(
      run.records.some((r) => r.critical)
        ? run.records.filter((r) => r.critical).map((r) => r.task)
        : path(run.records).map((r) => r.task),
    ),
  );
  const shade = (o: string) => `var(--${o === "stopped" ? "blocked" : o})`;
  const left = 66;
  let width = $state(800);
  const x = $derived(scaleLinear([0, laid.end], [left, Math.max(width - 8, left + 50)]));
  const ticks = $derived(x.ticks(Math.max(2, Math.floor(width / 130))));
  const tab = $derived(bars.some((b) => b.task === picked) ? picked : bars[0]?.task);
  let svg: SVGSVGElement | undefined = $state();

  function keys(e: KeyboardEvent, i: number) {
    const to = { ArrowRight: i + 1, ArrowDown: i + 1, ArrowLeft: i - 1, ArrowUp: i - 1, Home: 0, End: bars.length - 1 }[
      e.key
    ];
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      onpick(bars[i].task);
    } else if (to !== undefined && bars[to]) {
      e.preventDefault();
      onpick(bars[to].task);
      requestAnimationFrame(() => svg?.querySelector<SVGElement>(`[data-bar="${to}"]`)?.focus());
    }
  }
</script>

{#if bars.length > 0}
  <div class="overflow-hidden px-4.5 pt-2.5 pb-1.5">
    <div bind:clientWidth={width}>
      <svg
        bind:this={svg}
        {width}
        height={laid.height + 26}
        viewBox="0 0 {width} {laid.height + 26}"
        role="group"
        aria-label="Tasks by slot over time; the critical path is underlined"
        class="block"
      >
        {#each ticks as t (t)}
          <line x1={x(t)} x2={x(t)} y1="0" y2={laid.height + 4} stroke="var(--hair)" />
          <text
            x={Math.min(x(t), width - 26)}
            y={laid.height + 18}
            font-size="11.5"
            fill="var(--faint)"
            text-anchor="middle">{laid.end < 6 ? `${+t.toFixed(2)} s` : seconds(t)}</text
          >
        {/each}
        {#each laid.lanes as lane, i (i)}
          <text x="0" y={lane.top + (lane.height > 20 ? 20 : 12)} font-size="12" fill="var(--soft)">{lane.name}</text>
        {/each}
        {#each bars as b, i (`${b.lane} ${b.task}`)}
          {@const from = x(b.from)}
          {@const w = Math.max(2, x(b.to) - from - 1.5)}
          {@const lane = laid.lanes[b.lane]}
          {#if lane}
            <g
              role="button"
              data-bar={i}
              tabindex={b.task === tab ? 0 : -1}
              aria-label="{b.task}: {b.running ? 'running' : b.outcome}, {seconds(b.took)}{critical.has(b.task)
                ? ', on the critical path'
                : ''}"
              aria-pressed={picked === b.task}
              class="bar cursor-pointer outline-none"
              onclick={() => onpick(b.task)}
              onkeydown={(e) => keys(e, i)}
            >
              <title>{b.task}: {b.running ? "running" : b.outcome}, {seconds(b.took)}</title>
              <rect
                x={from}
                y={lane.top + (lane.height > 20 ? 4 : 2)}
                width={w}
                height={lane.height - (lane.height > 20 ? 10 : 5)}
                rx="3"
                fill={shade(b.outcome)}
                opacity={b.running ? 0.55 : 0.95}
                stroke={picked === b.task ? "var(--ink)" : "none"}
                stroke-width="1.5"
              />
              {#if critical.has(b.task)}<rect
                  x={from}
                  y={lane.top + lane.height - (lane.height > 20 ? 4 : 2.5)}
                  width={w}
                  height="2.5"
                  fill="var(--ink)"
                />{/if}
              {#if lane.height > 20 && w > b.task.length * 6.6 + 16}
                <text
                  x={from + 8}
                  y={lane.top + 20.5}
                  font-size="12"
                  font-weight="560"
                  fill={b.outcome === "ran" || b.outcome === "stopped" ? "#1c2429" : "var(--sheet)"}
                  pointer-events="none">{b.task}</text
                >
              {/if}
            </g>
          {/if}
        {/each}
      </svg>
    </div>
  </div>
{/if}

<style>
  .bar:focus-visible rect:first-of-type {
    stroke: var(--copper);
    stroke-width: 2.5;
  }
</style>
