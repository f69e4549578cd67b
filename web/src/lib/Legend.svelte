<script lang="ts">
  import Glyph from "./Glyph.svelte";
  import { outcomes } from "./words";

  // What the marks mean.
  let { critical = false }: { critical?: boolean } = $props();
  const says: Record<string, string> = {
    current: "its outputs on the disk were right",
    cached: "the cache had its result, and nothing was transferred",
    restored: "restored from that machine's cache",
    fetched: "fetched from the shared cache",
    ran: "it ran",
    failed: "it ran and failed",
    blocked: "a dependency failed",
    stopped: "the run was interrupted",
    "not-started": "the run ended first",
  };
</script>

<details class="small">
  <summary class="cursor-pointer">Legend</summary>
  <ul class="mt-1.5 grid gap-x-6 gap-y-1 sm:grid-cols-2 lg:grid-cols-3">
    {#each outcomes as o (o)}<li class="flex items-center gap-1.5">
        <Glyph outcome={o} /><b class="font-medium text-ink">{o}</b>
        {says[o]}
      </li>{/each}
    <li class="flex items-center gap-1.5">
      <Glyph outcome="running" /><b class="font-medium text-ink">running</b> it runs now
    </li>
    {#if critical}<li>
        <span class="inline-block w-4 border-b-2 border-ink align-middle"></span>
        <b class="font-medium text-ink">critical path</b> a line under the bar: what the end of the run waited for
      </li>{/if}
  </ul>
</details>
