<script lang="ts">
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { tick, untrack } from "svelte";
  import { get } from "svelte/store";
  import { Failure, runLog } from "./api";
  import { spans } from "./ansi";
  import { session } from "./session.svelte";
  import { counted, many } from "./words";

  // The log of a task: only the lines that are looked at are loaded and drawn. The
  // log of a task that runs has no digest; growth changes whenever there is more of
  // it, and who looks at its end stays there.
  type Props = { run: string; task: string; digest: string; growth?: number };
  let { run, task, digest, growth = 0 }: Props = $props();
  type Line = { at: number; text: string };
  const size = 5000; // lines in one answer

  let lines = $state.raw<Record<number, Line[]>>({});
  let total = $state(0);
  let trouble = $state("");
  let text = $state("");
  let at = $state(-1); // the match that is shown
  // eslint-disable-next-line svelte/prefer-svelte-reactivity -- not followed by anything
  let asked = new Set<number>();
  let generation = 0;

  async function load(n: number) {
    if (asked.has(n)) return;
    asked.add(n);
    const mine = generation;
    try {
      const log = await runLog(session.repo, run, task, n * size);
      if (mine !== generation) return;
      total = log.total;
      lines = { ...lines, [n]: log.lines };
    } catch (e) {
      if (mine !== generation) return;
      asked.delete(n);
      // What runs may not have printed anything yet.
      if (digest || (e as Failure).status !== 404) trouble = (e as Error).message;
    }
  }

  $effect(() => {
    void [run, task, digest];
    untrack(async () => {
      generation++;
      asked = new Set();
      lines = {};
      total = 0;
      trouble = "";
      at = -1;
      await load(0);
      if (total > size) load(Math.floor((total - 1) / size));
    });
  });

  // More of a growing log: the last part again, and what follows.
  let loading = false;
  let missed = false;
  async function more() {
    missed = true;
    if (loading) return;
    loading = true;
    while (missed) {
      missed = false;
      trouble = "";
      const stay = atEnd;
      const n = Math.floor(total / size);
      asked.delete(n);
      await load(n);
      for (let next = n + 1; next * size < total; next++) await load(next);
      await tick();
      if (stay && total > 0) get(virtual).scrollToIndex(total - 1, { align: "end" });
    }
    loading = false;
  }
  $effect(() => {
    if (growth > 0) untrack(more);
  });
  let atEnd = true;
  const watchEnd = () => (atEnd = !!box && box.scrollTop + box.clientHeight > box.scrollHeight - 40);

  let box: HTMLElement | undefined = $state();
  const virtual = createVirtualizer<HTMLElement, HTMLElement>({
    count: 0,
    getScrollElement: () => box ?? null,
    estimateSize: () => 18,
    overscan: 20,
  });
  $effect(() => {
    const count = total;
    const element = box;
    get(virtual).setOptions({ count, getScrollElement: () => element ?? null });
  });
  $effect(() => {
    const wanted = new Set($virtual.getVirtualItems().map((i) => Math.floor(i.index / size)));
    untrack(() => wanted.forEach((n) => load(n)));
  });
  const line = (i: number): Line | undefined => lines[Math.floor(i / size)]?.[i % size];

  // Searching needs all lines.
  const matches = $derived.by(() => {
    const t = text.toLowerCase();
    if (!t) return [];
    const out: number[] = [];
    for (const [n, part] of Object.entries(lines))
      part.forEach((l, i) => l.text.toLowerCase().includes(t) && out.push(Number(n) * size + i));
    return out.sort((a, b) => a - b);
  });
  async function search() {
    for (let n = 0; n * size < total; n++) await load(n);
    at = matches.length > 0 ? 0 : -1;
    show();
  }
  function show() {
    if (matches[at] !== undefined) get(virtual).scrollToIndex(matches[at], { align: "center" });
  }
  function step(by: number) {
    if (matches.length === 0) return;
    at = (at + by + matches.length) % matches.length;
    show();
  }
  function keys(e: KeyboardEvent) {
    if (e.key === "Enter") {
      if (at < 0) search();
      else step(e.shiftKey ? -1 : 1);
    } else if (e.key === "Escape" && text) {
      e.stopPropagation();
      text = "";
      at = -1;
    }
  }
</script>

<div class="mb-1.5 flex flex-wrap items-center gap-2">
  <input
    type="search"
    class="min-w-0 flex-1 rounded-control border border-line bg-paper px-2.5 py-0.5"
    placeholder="Search the log"
    aria-label="Search the log of {task}"
    bind:value={text}
    oninput={() => (at = -1)}
    onkeydown={keys}
  />
  {#if text}
    <span class="small" aria-live="polite"
      >{matches.length === 0
        ? at < 0
          ? "Enter searches"
          : "nothing found"
        : `${at + 1} of ${many(matches.length)}`}</span
    >
    <button class="control" aria-label="previous match" onclick={() => step(-1)}>↑</button>
    <button class="control" aria-label="next match" onclick={() => (at < 0 ? search() : step(1))}>↓</button>
  {/if}
  <span class="small">{counted(total, "line")}{digest ? "" : " so far"}</span>
</div>
{#if trouble}<p class="small">The log could not be loaded: {trouble}</p>{/if}
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  bind:this={box}
  onscroll={watchEnd}
  class="max-h-[420px] overflow-auto rounded-control border border-hair font-mono text-[12px] leading-[18px] text-soft"
  tabindex="0"
  role="region"
  aria-label="Log of {task}"
>
  <div class="relative w-max min-w-full" style:height="{$virtual.getTotalSize()}px">
    {#each $virtual.getVirtualItems() as item (item.index)}
      {@const l = line(item.index)}
      <div
        class="absolute left-0 flex h-[18px] min-w-full whitespace-pre {matches[at] === item.index ? 'bg-wash' : ''}"
        style:transform="translateY({item.start}px)"
      >
        <span class="w-16 shrink-0 pr-2 text-right text-faint select-none">{l ? l.at.toFixed(1) : "…"}</span>
        <span
          >{#if l}{#each spans(l.text) as s, i (i)}<span class={s.style}>{s.text}</span>{/each}{/if}</span
        >
      </div>
    {/each}
  </div>
</div>
