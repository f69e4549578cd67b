<script lang="ts">
  import { scaleLog } from "d3-scale";
  import type { PlaceTimes } from "./api";
  import { bytes, counted, seconds, speed } from "./words";

  // Running against fetching at one place: each dot is one of them, the box holds
  // the middle half, its line is the median. All places share one scale.
  type Props = { place: PlaceTimes; least: number; most: number };
  let { place, least, most }: Props = $props();
  let width = $state(400);
  const x = $derived(scaleLog([least, most], [6, Math.max(width - 6, 20)]).clamp(true));
  const rows = $derived([
    { name: "running", times: place.run, fill: "var(--ran)", y: 4 },
    { name: "fetching", times: place.fetch, fill: "var(--fetched)", y: 32 },
  ]);
  const at = (s: number) => x(Math.max(s, least));
</script>

<div
  class="grid grid-cols-[minmax(0,1fr)] items-center gap-x-4 border-t border-hair px-4.5 py-2 sm:grid-cols-[130px_minmax(0,1fr)_220px]"
>
  <div class="font-semibold">{place.place}</div>
  <div class="overflow-hidden" bind:clientWidth={width}>
    <svg
      {width}
      height="60"
      viewBox="0 0 {width} 60"
      role="img"
      class="block"
      aria-label="{place.place}: running, median {seconds(place.run.median)} of {place.run
        .n}; fetching, median {seconds(place.fetch.median)} of {place.fetch.n}"
    >
      {#each rows as r (r.name)}
        {#if r.times.n > 0}
          {#each r.times.values as v, i (i)}<circle
              cx={at(v)}
              cy={r.y + 12}
              r="3"
              fill={r.fill}
              opacity="0.28"
            />{/each}
          <rect
            x={at(r.times.quarter)}
            y={r.y + 3}
            width={Math.max(2, at(r.times.upper) - at(r.times.quarter))}
            height="18"
            rx="2"
            fill="none"
            stroke={r.fill}
            stroke-width="1.5"
          />
          <line
            x1={at(r.times.median)}
            x2={at(r.times.median)}
            y1={r.y}
            y2={r.y + 24}
            stroke="var(--ink)"
            stroke-width="2"
          />
        {:else}<text x="6" y={r.y + 16} font-size="12" fill="var(--soft)"
            >not {r.name === "running" ? "run" : "fetched"} here</text
          >{/if}
      {/each}
    </svg>
  </div>
  <div>
    <div
      class={place.verdict === "running"
        ? "font-semibold text-cost"
        : place.verdict === "fetching"
          ? "font-semibold text-saved"
          : ""}
    >
      {place.says[0].toUpperCase() + place.says.slice(1)}
    </div>
    <div class="small">
      {place.run.n ? `runs in ${seconds(place.run.median)} (${place.run.n})` : "never run"},
      {place.fetch.n ? `fetched in ${seconds(place.fetch.median)} (${place.fetch.n})` : "never fetched"}
    </div>
    {#if place.bytes_in > 0}<div class="small">
        {bytes(place.bytes_in / Math.max(1, place.fetch.n))} each, at {speed(place.speed, 1)}
      </div>{/if}
    <span class="sr-only">{counted(place.run.n + place.fetch.n, "sample")}</span>
  </div>
</div>
