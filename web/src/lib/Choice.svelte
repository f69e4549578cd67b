<script lang="ts" generics="T extends string | number">
  import { ToggleGroup } from "bits-ui";

  // One of a few values, all of them visible.
  type Props = { label: string; value: T; items: { value: T; name: string }[]; onchange: (value: T) => void };
  let { label, value, items, onchange }: Props = $props();
</script>

<ToggleGroup.Root
  type="single"
  aria-label={label}
  class="flex flex-wrap overflow-hidden rounded-control border border-line bg-sheet"
  value={String(value)}
  onValueChange={(v: string) => {
    const item = items.find((i) => String(i.value) === v);
    if (item) onchange(item.value);
  }}
>
  {#each items as i (i.value)}
    <ToggleGroup.Item
      value={String(i.value)}
      class="border-r border-line px-3 py-1 text-soft last:border-r-0 hover:text-ink focus-visible:outline-offset-[-2px] data-[state=on]:bg-wash data-[state=on]:font-medium data-[state=on]:text-ink"
      >{i.name}</ToggleGroup.Item
    >
  {/each}
</ToggleGroup.Root>
