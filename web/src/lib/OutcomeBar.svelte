<script lang="ts">
  import { outcomes } from "./words";

  // The outcomes of one run as parts of a bar.
  let { totals, width = 190 }: { totals: Record<string, number>; width?: number } = $props();
  const parts = $derived.by(() => {
    const all = outcomes.reduce((n, o) => n + (totals[o] ?? 0), 0);
    let x = 0;
    return outcomes.flatMap((o) => {
      const n = totals[o] ?? 0;
      if (n === 0) return [];
      const w = (n / all) * width;
      const part = { o, n, x, w: Math.max(w - 1, 1.5) };
      x += w;
      return [part];
    });
  });
  const words = $derived(parts.map((p) => `${p.n} ${p.o}`).join(", "));
</script>

<svg {width} height="10" viewBox="0 0 {width} 10" role="img" aria-label={words} class="inline-block max-w-full">
  <title>{words}</title>
  {#each parts as part (part.o)}
    <rect
      x={part.x}
      y="0"
      width={part.w}
      height="10"
      rx="1.5"
      fill="var(--{part.o === 'stopped' || part.o === 'not-started' ? 'blocked' : part.o})"
    />
  {/each}
</svg>
