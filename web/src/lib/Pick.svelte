<script lang="ts">
  // One of many values, or any.
  type Props = {
    label: string;
    value: string;
    items: string[];
    any?: string;
    names?: Record<string, string>;
    onchange: (value: string) => void;
  };
  let { label, value, items, any = "any", names = {}, onchange }: Props = $props();
  const all = $derived(value && !items.includes(value) ? [value, ...items] : items);
</script>

<label class="flex min-w-0 items-center gap-1.5 rounded-control border border-line bg-sheet pl-2.5 text-soft">
  <span class="text-[12.5px] whitespace-nowrap">{label}</span>
  <select
    class="max-w-44 min-w-0 bg-transparent py-1 pr-1 text-ink"
    aria-label={label}
    {value}
    onchange={(e) => onchange(e.currentTarget.value)}
  >
    {#if any}<option value="">{any}</option>{/if}
    {#each all as i (i)}<option value={i}>{names[i] ?? i}</option>{/each}
  </select>
</label>
