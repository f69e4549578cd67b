<script lang="ts">
  import type { Outcome } from "./api";

  // The mark of an outcome: a shape as well as a colour.
  let { outcome }: { outcome: Outcome | "running" } = $props();
  const name = $derived(
    outcome === "stopped" || outcome === "not-started" ? "blocked" : outcome === "running" ? "ran" : outcome,
  );
</script>

<svg
  width="12"
  height="12"
  viewBox="0 0 12 12"
  fill="none"
  aria-hidden="true"
  class="inline-block shrink-0"
  stroke="var(--{name})"
>
  {#if outcome === "current"}<circle cx="6" cy="6" r="3.4" fill="var(--current)" stroke="none" />
  {:else if outcome === "cached"}<circle cx="6" cy="6" r="3.2" stroke-width="1.8" />
  {:else if outcome === "restored"}<path d="M2 6.2v4h8v-4M6 8V1.6M3.6 4 6 1.6 8.4 4" stroke-width="1.6" />
  {:else if outcome === "fetched"}<path d="M6 1.2v7M3 5.4l3 3 3-3M1.6 10.8h8.8" stroke-width="1.7" />
  {:else if outcome === "ran"}<path d="M3 1.8 10 6l-7 4.2z" fill="var(--ran)" stroke="none" />
  {:else if outcome === "running"}<path d="M3.2 2.4 9.2 6l-6 3.6z" stroke-width="1.3" />
  {:else if outcome === "failed"}<path d="m2.4 2.4 7.2 7.2m0-7.2-7.2 7.2" stroke-width="2.1" />
  {:else}<path d="M3.4 2v8M8.6 2v8" stroke-width="2.2" />{/if}
</svg>
