<script lang="ts">
  import type { RequestState } from "./api";

  // The mark of a request's state: a shape as well as a colour.
  let { state }: { state: RequestState } = $props();
  const colours: Record<RequestState, string> = {
    queued: "var(--faint)",
    running: "var(--ran)",
    passed: "var(--saved)",
    failed: "var(--failed)",
    cancelled: "var(--soft)",
    lost: "var(--soft)",
  };
</script>

<svg
  width="12"
  height="12"
  viewBox="0 0 12 12"
  fill="none"
  aria-hidden="true"
  class="inline-block shrink-0"
  stroke={colours[state]}
>
  {#if state === "queued"}<path d="M2 6h.01M6 6h.01M10 6h.01" stroke-width="2.2" stroke-linecap="round" />
  {:else if state === "running"}<path d="M3.2 2.4 9.2 6l-6 3.6z" stroke-width="1.3" />
  {:else if state === "passed"}<path d="M2 6.4 4.8 9.2 10 3" stroke-width="1.9" />
  {:else if state === "failed"}<path d="m2.4 2.4 7.2 7.2m0-7.2-7.2 7.2" stroke-width="2.1" />
  {:else if state === "cancelled"}<path d="M3.4 2v8M8.6 2v8" stroke-width="2.2" />
  {:else}<circle cx="6" cy="6" r="4" stroke-width="1.6" stroke-dasharray="2.2 2" />{/if}
</svg>
