<script lang="ts">
  import type { Snippet } from "svelte";
  import { session } from "./session.svelte";

  // The plain sentence with which a page opens, what it is about, and its
  // controls.
  type Props = { title: string; children: Snippet; about?: Snippet; controls?: Snippet };
  let { title, children, about, controls }: Props = $props();
  $effect(() => {
    document.title = `${title} · ${session.repo} · Gray Loft`;
  });
</script>

<div class="mb-4 flex flex-wrap items-end justify-between gap-x-5 gap-y-3">
  <div class="min-w-0">
    <h1 class="text-[21px] leading-tight font-semibold tracking-tight break-words">{@render children()}</h1>
    {#if about}<div class="mt-0.5 text-soft">{@render about()}</div>{/if}
  </div>
  {#if controls}<div class="flex flex-wrap items-center gap-2">{@render controls()}</div>{/if}
</div>
