<script lang="ts">
  import { ArrowDown, ArrowUp } from "@lucide/svelte";

  // The head of a column by which a table can be sorted.
  type Props = {
    name: string;
    column: string;
    sort: string;
    up: boolean;
    right?: boolean;
    class?: string;
    onsort: (column: string) => void;
  };
  let { name, column, sort, up, right = true, class: more = "", onsort }: Props = $props();
  const on = $derived(sort === column);
</script>

<th
  aria-sort={on ? (up ? "ascending" : "descending") : undefined}
  class="sticky top-0 bg-sheet px-3 py-2 font-medium whitespace-nowrap {right ? 'text-right' : 'text-left'} {more}"
>
  <button onclick={() => onsort(column)} aria-label="sort by {name}" class={on ? "text-ink" : ""}>
    {#if on}{#if up}<ArrowUp size={11} class="inline" />{:else}<ArrowDown size={11} class="inline" />{/if}{/if}
    {name}
  </button>
</th>
