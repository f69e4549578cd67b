<script lang="ts">
  // A small line of bars, one for each week.
  let { values, label, width = 84 }: { values: number[]; label: string; width?: number } = $props();
  const most = $derived(Math.max(1e-9, ...values));
  const step = $derived(width / Math.max(1, values.length));
</script>

<svg {width} height="18" viewBox="0 0 {width} 18" role="img" aria-label={label} class="inline-block">
  {#each values as v, i (i)}<rect
      x={i * step}
      y={17 - (v / most) * 16}
      width={Math.max(1, step - 1)}
      height={v > 0 ? Math.max(1, (v / most) * 16) : 0.5}
      fill="var(--cached)"
    />{/each}
</svg>
