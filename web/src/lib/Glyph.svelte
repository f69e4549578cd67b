<script lang="ts">
  import type { Outcome } from "./api";

  // The mark of an outcome: a shape as well as a colour.
  let { outcome }: { outcome: Outcome } = $props();
  const stroke = $derived(`var(--${outcome === "stopped" || outcome === "not-started" ? "blocked" : outcome})`);
</script>

<svg width="12" height="12" viewBox="0 0 12 12" fill="none" aria-hidden="true" class="inline-block shrink-0" {stroke}>
  {#if outcome === "current"}<circle cx="6" cy="6" r="3.4" fill="var(--current)" stroke="none" />
  {:else if outcome === "cached"}<circle cx="6" cy="6" r="3.2" stroke-width="1.8" />
  {:else if outcome === "restored"}<path d="M2 8.5h8M6 2v5M3.6 4.8 6 7.2l2.4-2.4" stroke-width="1.7" />
  {:else if outcome === "fetched"}<path d="M6 1.2v7M3 5.4l3 3 3-3M1.6 10.8h8.8" stroke-width="1.7" />
  {:else if outcome === "ran"}<path d="M3 1.8 10 6l-7 4.2z" fill="var(--ran)" stroke="none" />
  {:else if outcome === "failed"}<path d="m2.4 2.4 7.2 7.2m0-7.2-7.2 7.2" stroke-width="2.1" />
  {:else}<path d="M3.4 2v8M8.6 2v8" stroke-width="2.2" />{/if}
</svg>
