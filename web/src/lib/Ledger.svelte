<script lang="ts">
  import { ArrowDown, ArrowUp } from "@lucide/svelte";
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { searchParams } from "sv-router";
  import { get } from "svelte/store";
  import type { RunRow } from "./api";
  import Glyph from "./Glyph.svelte";
  import Histogram from "./Histogram.svelte";
  import OutcomeBar from "./OutcomeBar.svelte";
  import { navigate, p } from "./routes";
  import { counted, exact, seconds, when } from "./words";

  // The ledger: one row per run. Its filters and sort order are in the address.
  let { rows, more }: { rows: RunRow[]; more: boolean } = $props();

  type Column = { id: string; name: string; fill: string; value: (r: RunRow) => number; say: (n: number) => string };
  const columns: Column[] = [
    {
      id: "ran",
      name: "Ran",
      fill: "var(--current)",
      value: (r) => (r.totals.ran ?? 0) + (r.totals.failed ?? 0),
      say: (n) => n.toFixed(0),
    },
    { id: "saved", name: "Saved", fill: "var(--saved)", value: (r) => r.saved_seconds, say: seconds },
    { id: "cost", name: "Cost", fill: "var(--cost)", value: (r) => r.cost_seconds, say: seconds },
    { id: "took", name: "Took", fill: "var(--faint)", value: (r) => r.seconds, say: seconds },
  ];

  const ranges = $derived(
    Object.fromEntries(
      columns.map((c) => {
        const parts = String(searchParams.get(c.id) ?? "")
          .split("~")
          .map(Number);
        return [c.id, parts.length === 2 && parts.every(Number.isFinite) ? (parts as [number, number]) : null];
      }),
    ),
  );
  const text = $derived(String(searchParams.get("find") ?? "").toLowerCase());
  const sort = $derived(String(searchParams.get("sort") ?? "when"));
  const words = (r: RunRow) => `${title(r)} ${r.name} ${r.branch} ${r.place} ${r.id} ${r.commit}`.toLowerCase();
  const title = (r: RunRow) => r.requested.join(" ") || "picked";

  const shown = $derived.by(() => {
    const out = rows.filter(
      (r) =>
        (!text || words(r).includes(text)) &&
        columns.every((c) => {
          const range = ranges[c.id];
          return !range || (c.value(r) >= range[0] - 1e-6 && c.value(r) <= range[1] + 1e-6);
        }),
    );
    const column = columns.find((c) => c.id === sort.replace("-", ""));
    if (column) out.sort((a, b) => column.value(b) - column.value(a));
    if (sort.startsWith("-")) out.reverse();
    return out;
  });
  const narrowed = $derived(text !== "" || columns.some((c) => ranges[c.id]));

  function narrow(id: string, range: [number, number] | null) {
    if (range) searchParams.set(id, range.map((n) => +n.toPrecision(6)).join("~"), { replace: true });
    else searchParams.delete(id, undefined, { replace: true });
  }
  const order = (id: string) => searchParams.set("sort", sort === id ? `-${id}` : id, { replace: true });
  function clear() {
    for (const id of ["find", ...columns.map((c) => c.id)]) searchParams.delete(id, undefined, { replace: true });
  }

  let list: HTMLElement | undefined = $state();
  const virtual = createVirtualizer<HTMLElement, HTMLElement>({
    count: 0,
    getScrollElement: () => list ?? null,
    estimateSize: () => 39,
    overscan: 12,
  });
  $effect(() => {
    const count = shown.length;
    const element = list;
    get(virtual).setOptions({ count, getScrollElement: () => element ?? null });
  });

  function keys(e: KeyboardEvent) {
    const row = (e.target as HTMLElement).closest<HTMLElement>("[data-row]");
    if (!row) return;
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      e.preventDefault();
      const to = Number(row.dataset.row) + step;
      if (to < 0 || to >= shown.length) return;
      $virtual.scrollToIndex(to);
      requestAnimationFrame(() => list?.querySelector<HTMLElement>(`[data-row="${to}"]`)?.focus());
    }
    if (e.key === "Escape") row.blur();
  }

  async function copy() {
    const head = ["id", "started", "requested", "name", "branch", "place", ...columns.map((c) => c.id), "ok"];
    const lines = shown.map((r) => [
      r.id,
      r.started,
      title(r),
      r.name,
      r.branch,
      r.place,
      ...columns.map((c) => c.value(r)),
      r.ok,
    ]);
    await navigator.clipboard.writeText([head, ...lines].map((l) => l.join("\t")).join("\n"));
  }

  const grid =
    "grid grid-cols-[86px_minmax(0,1fr)_76px] md:grid-cols-[92px_minmax(200px,1fr)_120px_minmax(150px,290px)_84px_92px_92px_92px] items-center gap-x-3 px-4.5";
</script>

<section class="sheet mt-4.5" aria-label="Runs">
  <div class="{grid} border-b border-line pt-2.5 pb-1 text-[12.5px] text-soft md:items-end" role="row">
    <button class="text-left" onclick={() => order("when")}
      >When {#if sort === "-when"}<ArrowUp size={11} class="inline" />{/if}</button
    >
    <span>Who and what</span>
    <span class="max-md:hidden">Place</span>
    <span class="max-md:hidden">Outcomes</span>
    {#each columns as c (c.id)}
      <div class="text-right {c.id === 'took' ? '' : 'max-md:hidden'}">
        <button onclick={() => order(c.id)} aria-label="sort by {c.name}">
          {#if sort === c.id}<ArrowDown size={11} class="inline" />{:else if sort === `-${c.id}`}<ArrowUp
              size={11}
              class="inline"
            />{/if}
          {c.name}
        </button>
        <div class="max-md:hidden">
          <Histogram
            values={rows.map(c.value)}
            fill={c.fill}
            label={c.name}
            range={ranges[c.id]}
            say={c.say}
            onrange={(r) => narrow(c.id, r)}
          />
        </div>
      </div>
    {/each}
  </div>
  {#if shown.length === 0}
    <p class="px-4.5 py-6 text-soft">
      None of {counted(rows.length, "run")} matches.
      <button class="text-copper underline" onclick={clear}>Show all</button>
    </p>
  {/if}
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <div bind:this={list} class="max-h-[640px] overflow-y-auto" onkeydown={keys}>
    <div class="relative w-full" style:height="{$virtual.getTotalSize()}px">
      {#each $virtual.getVirtualItems() as item (shown[item.index]?.id ?? item.index)}
        {@const r = shown[item.index]}
        {#if r}
          <a
            href={p("/runs/:id", { params: { id: r.id } })}
            data-row={item.index}
            class="{grid} absolute top-0 left-0 h-[39px] w-full border-b border-hair text-ink no-underline hover:bg-wash focus-visible:bg-wash focus-visible:outline-offset-[-2px]"
            style:transform="translateY({item.start}px)"
            onclick={(e) => {
              if (e.metaKey || e.ctrlKey || e.shiftKey) return;
              e.preventDefault();
              navigate("/runs/:id", { params: { id: r.id } });
            }}
          >
            <time datetime={r.started} title={exact(r.started)}>{when(r.started)}</time>
            <span class="truncate">
              <b class="font-medium">{title(r)}{r.no_reuse ? " · without reuse" : ""}</b>
              <span class="small">{r.name}{r.branch ? " on" : ""}</span> <code>{r.branch}</code>
            </span>
            <span class="max-md:hidden"
              ><span class="rounded-full border border-line px-2 text-xs text-soft">{r.place}</span></span
            >
            <span class="flex items-center gap-2 max-md:hidden">
              <OutcomeBar totals={r.totals} width={150} />
              {#if r.totals.failed}<span class="inline-flex items-center gap-1 whitespace-nowrap text-failed"
                  ><Glyph outcome="failed" />{r.totals.failed} failed</span
                >
              {:else if r.interrupted}<span class="small">interrupted</span>{/if}
            </span>
            {#each columns as c (c.id)}
              <span
                class="text-right whitespace-nowrap {c.id === 'took' ? '' : 'max-md:hidden'} {c.id === 'saved'
                  ? 'text-saved'
                  : c.id === 'cost'
                    ? 'text-cost'
                    : ''}"
              >
                {#if c.id === "took" && r.running}<Glyph outcome="ran" /> running
                {:else if c.id === "took" && !r.finished}<span class="small">lost</span>
                {:else if (c.id === "saved" || c.id === "cost") && Math.abs(c.value(r)) < 0.05}–
                {:else}{c.say(c.value(r))}{/if}
              </span>
            {/each}
          </a>
        {/if}
      {/each}
    </div>
  </div>
  <div class="flex flex-wrap justify-between gap-3 border-t border-line px-4.5 py-2 small">
    <span>
      {narrowed ? `${shown.length} of ${counted(rows.length, "run")}` : counted(rows.length, "run")}{more
        ? ", and older ones"
        : ""}
      {#if narrowed && shown.length}<button class="ml-2 text-copper underline" onclick={clear}>show all</button>{/if}
    </span>
    <button class="text-copper underline" onclick={copy}>copy as TSV</button>
  </div>
</section>
