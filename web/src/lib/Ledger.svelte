<script lang="ts">
  import { ArrowDown, ArrowUp } from "@lucide/svelte";
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { untrack } from "svelte";
  import { get } from "svelte/store";
  import { runs as ask, type RunQuery, type RunRow } from "./api";
  import { param, setParam } from "./address";
  import Glyph from "./Glyph.svelte";
  import OutcomeBar from "./OutcomeBar.svelte";
  import { navigate, p } from "./routes";
  import { copyTable } from "./rows";
  import { session } from "./session.svelte";
  import { counted, exact, many, seconds, when } from "./words";

  // The ledger: one row per run. The service filters, sorts and pages; only the
  // pages that are looked at are loaded.
  type Props = { query: RunQuery; changes: number; picked: string[]; onpicked: (ids: string[]) => void };
  let { query, changes, picked, onpicked }: Props = $props();
  const size = 100;

  const columns = [
    { id: "ran", name: "Ran", tint: "", say: (r: RunRow) => String((r.totals.ran ?? 0) + (r.totals.failed ?? 0)) },
    { id: "saved", name: "Saved", tint: "text-saved", say: (r: RunRow) => worth(r.saved_seconds) },
    { id: "cost", name: "Cost", tint: "text-cost", say: (r: RunRow) => worth(r.cost_seconds) },
    { id: "took", name: "Took", tint: "", say: (r: RunRow) => seconds(r.seconds) },
  ];
  const worth = (s: number) => (Math.abs(s) < 0.05 ? "–" : seconds(s));
  const title = (r: RunRow) => r.requested.join(" ") || "picked";

  let pages = $state.raw<Record<number, RunRow[]>>({});
  let total = $state(0);
  let known = $state(false);
  let trouble = $state("");
  let generation = 0;
  // eslint-disable-next-line svelte/prefer-svelte-reactivity -- not followed by anything
  let asked = new Set<number>();
  // Later runs do not move the rows while somebody scrolls.
  let until: string | undefined;

  const sort = $derived(param("sort", "began"));
  const up = $derived(param("order") === "up");
  const full = $derived<RunQuery>({ ...query, sort: sort as RunQuery["sort"], order: up ? "up" : "down" });

  async function load(n: number) {
    if (asked.has(n)) return;
    asked.add(n);
    const mine = generation;
    try {
      const page = await ask(session.repo, { ...full, until: query.until ?? until, skip: n * size, limit: size });
      if (mine !== generation) return;
      until = page.until;
      total = page.total;
      known = true;
      trouble = "";
      pages = { ...pages, [n]: page.runs };
    } catch (e) {
      if (mine !== generation) return;
      asked.delete(n);
      trouble = (e as Error).message;
    }
  }

  // Another question: everything is loaded again, from the top.
  $effect(() => {
    void full;
    untrack(() => {
      generation++;
      asked = new Set();
      until = undefined;
      load(0).then(() => {
        const first = pages[0];
        pages = first ? { 0: first } : {};
        list?.scrollTo({ top: 0 });
      });
    });
  });
  // The records changed: what is looked at is loaded again, and then replaced.
  $effect(() => {
    if (changes === 0) return;
    untrack(async () => {
      const mine = generation;
      const seen = [
        ...new Set(
          get(virtual)
            .getVirtualItems()
            .map((i) => Math.floor(i.index / size)),
        ),
      ];
      const at = (list?.scrollTop ?? 0) < 40 ? undefined : until;
      const fresh: Record<number, RunRow[]> = {};
      try {
        for (const n of seen.length > 0 ? seen : [0]) {
          const page = await ask(session.repo, { ...full, until: query.until ?? at, skip: n * size, limit: size });
          if (mine !== generation) return;
          fresh[n] = page.runs;
          total = page.total;
          if (!at) until = page.until;
        }
      } catch {
        return; // the next change asks again
      }
      pages = at ? { ...pages, ...fresh } : fresh;
      asked = new Set(Object.keys(pages).map(Number));
    });
  });

  const rowAt = (i: number): RunRow | undefined => pages[Math.floor(i / size)]?.[i % size];

  let list: HTMLElement | undefined = $state();
  const virtual = createVirtualizer<HTMLElement, HTMLElement>({
    count: 0,
    getScrollElement: () => list ?? null,
    estimateSize: () => 39,
    overscan: 12,
  });
  $effect(() => {
    const count = total;
    const element = list;
    get(virtual).setOptions({ count, getScrollElement: () => element ?? null });
  });
  $effect(() => {
    const wanted = new Set($virtual.getVirtualItems().map((i) => Math.floor(i.index / size)));
    untrack(() => wanted.forEach((n) => load(n)));
  });

  function order(id: string) {
    setParam("order", sort === id && !up ? "up" : "");
    setParam("sort", id, "began");
  }

  function focusRow(to: number) {
    if (to < 0 || to >= total) return;
    $virtual.scrollToIndex(to);
    let tries = 20; // the row may have to be loaded first
    const focus = () => {
      const row = list?.querySelector<HTMLElement>(`[data-row="${to}"]`);
      if (row) row.focus();
      else if (tries-- > 0) setTimeout(focus, 50);
    };
    requestAnimationFrame(focus);
  }

  function keys(e: KeyboardEvent) {
    const row = (e.target as HTMLElement).closest<HTMLElement>("[data-row]");
    if (!row) return;
    const at = Number(row.dataset.row);
    const to = { ArrowDown: at + 1, ArrowUp: at - 1, PageDown: at + 12, PageUp: at - 12, Home: 0, End: total - 1 }[
      e.key
    ];
    if (to !== undefined) {
      e.preventDefault();
      focusRow(Math.min(total - 1, Math.max(0, to)));
    } else if (e.key === " ") {
      e.preventDefault();
      const r = rowAt(at);
      if (r) toggle(r.id);
    } else if (e.key === "Escape") row.blur();
  }

  function toggle(id: string) {
    onpicked(picked.includes(id) ? picked.filter((x) => x !== id) : [...picked.slice(-1), id]);
  }

  const mostCopied = 2000;
  async function copy() {
    const lines: (string | number | boolean)[][] = [];
    for (let skip = 0; skip < Math.min(total, mostCopied); skip += 500) {
      const page = await ask(session.repo, { ...full, until: query.until ?? until, skip, limit: 500 });
      for (const r of page.runs)
        lines.push([
          r.id,
          r.started,
          title(r),
          r.name,
          r.branch,
          r.commit,
          r.place,
          r.shelf,
          (r.totals.ran ?? 0) + (r.totals.failed ?? 0),
          r.saved_seconds,
          r.cost_seconds,
          r.seconds,
          r.bytes_in,
          r.bytes_out,
          r.ok,
        ]);
    }
    await copyTable(
      "id started requested name branch commit place shelf ran saved_seconds cost_seconds seconds bytes_in bytes_out ok".split(
        " ",
      ),
      lines,
    );
  }

  const grid =
    "grid grid-cols-[22px_86px_minmax(0,1fr)_76px] md:grid-cols-[22px_92px_minmax(200px,1fr)_120px_minmax(150px,270px)_70px_92px_92px_92px] items-center gap-x-3 px-4.5";
</script>

<section class="sheet mt-4.5" aria-label="Runs">
  <div class="{grid} border-b border-line py-2 text-[12.5px] text-soft">
    <span></span>
    <button
      class="text-left {sort === 'began' ? 'text-ink' : ''}"
      onclick={() => order("began")}
      aria-label="sort by When"
      >When {#if sort === "began"}{#if up}<ArrowUp size={11} class="inline" />{:else}<ArrowDown
            size={11}
            class="inline"
          />{/if}{/if}</button
    >
    <span>Who and what</span>
    <span class="max-md:hidden">Place</span>
    <span class="max-md:hidden">Outcomes</span>
    {#each columns as c (c.id)}
      <button
        class="text-right {sort === c.id ? 'text-ink' : ''} {c.id === 'took' ? '' : 'max-md:hidden'}"
        onclick={() => order(c.id)}
        aria-label="sort by {c.name}"
        >{#if sort === c.id}{#if up}<ArrowUp size={11} class="inline" />{:else}<ArrowDown
              size={11}
              class="inline"
            />{/if}{/if}
        {c.name}</button
      >
    {/each}
  </div>
  {#if trouble && !known}
    <div class="px-4.5 py-6">
      <p>The runs could not be loaded: {trouble}</p>
      <button class="control mt-2" onclick={() => load(0)}>Try again</button>
    </div>
  {:else if known && total === 0}
    <p class="px-4.5 py-6 text-soft">No run matches.</p>
  {/if}
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions, a11y_no_noninteractive_tabindex -->
  <div
    bind:this={list}
    class="max-h-[64vh] overflow-y-auto {total === 0 ? 'hidden' : ''}"
    role="group"
    aria-label="List of runs"
    tabindex={total > 0 ? 0 : -1}
    onkeydown={keys}
  >
    <div class="relative" style:height="{$virtual.getTotalSize()}px">
      {#each $virtual.getVirtualItems() as item (item.index)}
        {@const r = rowAt(item.index)}
        <div
          class="{grid} absolute inset-x-0 h-[39px] border-b border-hair {r && picked.includes(r.id)
            ? 'bg-wash'
            : 'hover:bg-paper'}"
          style:transform="translateY({item.start}px)"
        >
          {#if r}
            <input
              type="checkbox"
              class="relative z-1 accent-copper"
              aria-label="select the run {title(r)} of {when(r.started)} to compare it"
              checked={picked.includes(r.id)}
              onchange={() => toggle(r.id)}
            />
            <time datetime={r.started} title={exact(r.started)}>{when(r.started)}</time>
            <span class="truncate">
              <a
                data-row={item.index}
                href={p("/runs/:id", { params: { id: r.id } })}
                class="text-ink no-underline after:absolute after:inset-0 focus-visible:outline-none focus-visible:after:outline-2 focus-visible:after:outline-offset-[-2px] focus-visible:after:outline-copper"
                onclick={(e) => {
                  if (e.metaKey || e.ctrlKey || e.shiftKey) return;
                  e.preventDefault();
                  navigate("/runs/:id", { params: { id: r.id } });
                }}><b class="font-medium">{title(r)}{r.no_reuse ? " · without reuse" : ""}</b></a
              >
              <span class="small">{r.name}{r.branch ? " on" : ""}</span> <code>{r.branch}</code>
            </span>
            <span class="max-md:hidden"
              ><span class="rounded-full border border-line px-2 text-xs text-soft">{r.place}</span></span
            >
            <span class="flex items-center gap-2 max-md:hidden">
              <OutcomeBar totals={r.totals} width={140} />
              {#if r.totals.failed}<span class="inline-flex items-center gap-1 whitespace-nowrap text-failed"
                  ><Glyph outcome="failed" />{r.totals.failed} failed</span
                >
              {:else if r.interrupted}<span class="small">interrupted</span>{/if}
            </span>
            {#each columns as c (c.id)}
              <span class="text-right whitespace-nowrap {c.id === 'took' ? '' : 'max-md:hidden'} {c.tint}">
                {#if c.id === "took" && r.running}<Glyph outcome="running" /> running
                {:else if c.id === "took" && !r.finished}<span class="small">lost</span>
                {:else}{c.say(r)}{/if}
              </span>
            {/each}
          {:else}
            <span></span><span class="small">…</span>
          {/if}
        </div>
      {/each}
    </div>
  </div>
  <div class="flex flex-wrap justify-between gap-3 border-t border-line px-4.5 py-2 small">
    <span aria-live="polite">{known ? counted(total, "run") : "loading"}</span>
    <button class="text-copper underline" onclick={copy}
      >copy as TSV{total > mostCopied ? ` (the first ${many(mostCopied)})` : ""}</button
    >
  </div>
</section>
