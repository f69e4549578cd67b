<script lang="ts">
  // How a column's values are spread. Dragging over it narrows the table.
  type Range = [number, number] | null;
  type Props = {
    values: number[];
    fill: string;
    label: string;
    range: Range;
    say: (n: number) => string;
    onrange: (r: Range) => void;
  };
  let { values, fill, label, range, say, onrange }: Props = $props();

  const width = 76;
  const height = 22;
  const bins = 15;
  const top = $derived(Math.max(1e-9, ...values));
  // Values spread over orders of magnitude: equal steps of their square root.
  const place = (v: number) => Math.sqrt(Math.max(0, v) / top);
  const value = (share: number) => share * share * top;
  const heights = $derived.by(() => {
    const n = new Array(bins).fill(0);
    for (const v of values) n[Math.min(bins - 1, Math.floor(place(v) * bins))]++;
    const most = Math.max(1, ...n);
    return n.map((k) => (k === 0 ? 0 : Math.max(1.5, (k / most) * height)));
  });
  let from: number | null = null;
  let drag = $state<Range>(null);
  const shown = $derived(drag ?? (range && ([place(range[0]), Math.min(1, place(range[1]))] as Range)));

  const share = (e: PointerEvent) => {
    const box = (e.currentTarget as Element).getBoundingClientRect();
    return Math.min(1, Math.max(0, (e.clientX - box.left) / box.width));
  };
  const down = (e: PointerEvent) => {
    from = share(e);
    (e.currentTarget as Element).setPointerCapture(e.pointerId);
  };
  const move = (e: PointerEvent) => {
    if (from === null) return;
    const [a, b] = [Math.min(from, share(e)), Math.max(from, share(e))];
    drag = b - a < 0.04 ? null : [Math.floor(a * bins) / bins, Math.ceil(b * bins) / bins]; // whole bars
  };
  const up = () => {
    const d = drag;
    from = drag = null;
    onrange(d && [value(d[0]), d[1] >= 1 ? top : value(d[1])]);
  };
  const keys = (e: KeyboardEvent) => {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    if (e.key === "Escape") onrange(null);
    if (!step) return;
    e.preventDefault();
    e.stopPropagation();
    const least = Math.min(1, Math.max(0, place(range?.[0] ?? 0) + step / bins));
    onrange(least === 0 ? null : [value(least), top]);
  };
</script>

<div
  role="slider"
  tabindex="0"
  aria-label="{label}: narrow the table"
  aria-valuemin={0}
  aria-valuemax={top}
  aria-valuenow={range?.[0] ?? 0}
  aria-valuetext={range ? `from ${say(range[0])} to ${say(range[1])}` : "all"}
  title={range ? `from ${say(range[0])} to ${say(range[1])}; click to clear` : "drag to narrow the table"}
  class="mt-1 ml-auto cursor-crosshair touch-none"
  style:width="{width}px"
  onpointerdown={down}
  onpointermove={move}
  onpointerup={up}
  onkeydown={keys}
>
  <svg {width} {height} viewBox="0 0 {width} {height}" class="block" aria-hidden="true">
    {#if shown}<rect
        x={shown[0] * width}
        y="0"
        width={(shown[1] - shown[0]) * width}
        {height}
        fill="var(--copper-wash)"
      />{/if}
    {#each heights as h, i (i)}<rect
        x={(i * width) / bins}
        y={height - h}
        width={width / bins - 1}
        height={h}
        {fill}
      />{/each}
  </svg>
</div>
