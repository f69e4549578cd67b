<script lang="ts">
  import { scaleLog, scaleTime } from "d3-scale";
  import type { TaskPoint } from "./api";
  import { navigate } from "./routes";
  import { dayOf, seconds, timeOf, when } from "./words";

  // How long a task took, over time, by outcome.
  let { points, task }: { points: TaskPoint[]; task: string } = $props();
  let width = $state(800);
  const height = 190;
  const left = 54;
  const times = $derived(points.map((p) => new Date(p.at).getTime()));
  const x = $derived(
    scaleTime([Math.min(...times) - 3600e3, Math.max(...times) + 3600e3], [left, Math.max(width - 10, left + 20)]),
  );
  const least = $derived(Math.max(0.001, Math.min(...points.map((p) => Math.max(p.seconds, 0.001))) * 0.8));
  const y = $derived(scaleLog([least, Math.max(...points.map((p) => p.seconds), least * 4) * 1.25], [height - 22, 6]));
  const ticks = $derived(
    y.ticks(4).filter((t) => [1, 2, 5].includes(Math.round(t / 10 ** Math.floor(Math.log10(t) + 1e-9)))),
  );
  const short = $derived(Math.max(...times) - Math.min(...times) < 2 * 86400e3);
  const days = $derived(x.ticks(Math.max(2, Math.floor(width / 140))));
  const marks: Record<string, string> = {
    ran: "M-3.5 -4 4 0-3.5 4z",
    fetched: "M0-4V2M-3-1 0 2 3-1M-4 4H4",
    restored: "M0 4V-3M-3 0 0-3 3 0M-4 4.6H4",
    failed: "M-3.5-3.5 3.5 3.5M3.5-3.5-3.5 3.5",
  };
</script>

<div class="mx-4.5 overflow-hidden pb-2" bind:clientWidth={width}>
  <svg
    {width}
    {height}
    viewBox="0 0 {width} {height}"
    class="block"
    role="img"
    aria-label="Duration of {task} over time"
  >
    {#each ticks as t (t)}
      <line x1={left} x2={width - 10} y1={y(t)} y2={y(t)} stroke="var(--hair)" />
      <text x={left - 8} y={y(t) + 4} text-anchor="end" font-size="11.5" fill="var(--faint)">{seconds(t)}</text>
    {/each}
    {#each days as d (d.getTime())}<text
        x={x(d)}
        y={height - 4}
        text-anchor="middle"
        font-size="11.5"
        fill="var(--faint)">{short ? timeOf(d) : dayOf(d)}</text
      >{/each}
    {#each points as p, i (i)}
      <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
      <g
        transform="translate({x(new Date(p.at))} {y(Math.max(p.seconds, least))})"
        class="cursor-pointer"
        onclick={() => navigate("/runs/:id", { params: { id: p.run }, search: { task } })}
      >
        <title>{when(p.at)} at {p.place}: {p.outcome}{p.reason ? `, ${p.reason}` : ""}, {seconds(p.seconds)}</title>
        <circle r="6" fill="transparent" />
        <path
          d={marks[p.outcome] ?? ""}
          fill={p.outcome === "ran" ? "var(--ran)" : "none"}
          stroke={p.outcome === "ran" ? "none" : `var(--${p.outcome})`}
          stroke-width="1.6"
          opacity="0.85"
        />
      </g>
    {/each}
  </svg>
</div>
