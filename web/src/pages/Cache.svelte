<script lang="ts">
  import { untrack } from "svelte";
  import { cache as ask, setRetention, type Cache } from "../lib/api";
  import { numberParam, setParam } from "../lib/address";
  import Choice from "../lib/Choice.svelte";
  import Growth from "../lib/Growth.svelte";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { p } from "../lib/routes";
  import { rowKeys } from "../lib/rows";
  import { session } from "../lib/session.svelte";
  import { bytes, counted, dayOf, exact, many, percent, when } from "../lib/words";

  const spans = [
    { value: 30, name: "30 days" },
    { value: 90, name: "90 days" },
    { value: 365, name: "a year" },
  ];
  const days = $derived(numberParam("days", 90));
  const loader = new Loader<Cache>();
  const load = () => ask(session.repo, days);
  $effect(() => {
    void days;
    untrack(() => loader.ask(load));
  });
  const c = $derived(loader.data);
  const evicted = $derived((c?.evictions ?? []).reduce((n, e) => n + e.entries, 0));
  const hits = $derived((c?.hits ?? []).reduce((n, h) => n + h.fetched, 0));
  const mostHits = $derived(Math.max(1, ...(c?.hits ?? []).map((h) => h.fetched + h.restored + h.cached + h.executed)));

  let quota = $state<number | null>(null);
  let keep = $state<number | null>(null);
  let said = $state("");
  let trouble = $state("");
  $effect(() => {
    if (!c) return;
    untrack(() => {
      quota = c.own_quota ? c.own_quota / 1e9 : null;
      keep = c.own_days || null;
    });
  });
  async function save(e: SubmitEvent) {
    e.preventDefault();
    said = trouble = "";
    try {
      await setRetention(session.repo, {
        quota_bytes: Math.round((Number(quota) || 0) * 1e9),
        days: Number(keep) || 0,
      });
      said = "Saved. The next cleanup applies it.";
      loader.ask(load);
    } catch (err) {
      trouble = (err as Error).message;
    }
  }
  const field = "w-28 rounded-control border border-line bg-paper px-2.5 py-1 text-right";
</script>

{#snippet shares(name: string, list: Cache["shelves"])}
  <section class="sheet" aria-label="By {name}">
    <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">By {name}</h2>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="max-h-80 overflow-auto" tabindex="0" role="region" aria-label="Shares by {name}">
      <table class="w-full border-collapse whitespace-nowrap">
        <thead class="text-[12.5px] text-soft"
          ><tr
            class="[&>th]:sticky [&>th]:top-0 [&>th]:bg-sheet [&>th]:px-3 [&>th]:py-1.5 [&>th]:text-right [&>th]:font-medium"
            ><th class="pl-4.5! text-left!">{name}</th><th>Size</th><th>Entries</th><th>Used in 30 days</th></tr
          ></thead
        >
        <tbody>
          {#each list as s (s.name)}<tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1 [&>td]:text-right"
              ><td class="pl-4.5! text-left!"><code>{s.name}</code></td><td>{bytes(s.bytes)}</td><td
                >{many(s.entries)}</td
              ><td>{percent(s.entries ? s.used / s.entries : 0)}</td></tr
            >{/each}
        </tbody>
      </table>
    </div>
  </section>
{/snippet}

<Heading title="Cache">
  {#if c}The shared cache holds {counted(c.entries, "entry", "entries")} in {bytes(c.bytes)}; {counted(
      hits,
      "result was",
      "results were",
    )} fetched from it{:else}Cache{/if}
  {#snippet about()}{#if c}
      {c.quota ? `${percent(c.bytes / c.quota)} of the quota of ${bytes(c.quota)}` : "There is no quota"}; {c.days
        ? `entries that nobody used for ${counted(c.days, "day")} are removed`
        : "entries are kept for ever"}{c.waiting ? `; ${bytes(c.waiting)} wait for deletion` : ""}.{/if}{/snippet}
  {#snippet controls()}<Choice
      label="Time"
      value={days}
      items={spans}
      onchange={(v) => setParam("days", v, 90)}
    />{/snippet}
</Heading>
{#if loader.trouble && !c}
  <Notice
    title="The cache could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !c}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else if c.entries === 0 && c.bytes === 0}
  <Notice
    title="Nothing is shared yet"
    text="Entries appear when somebody whose token writes to a shelf runs tasks."
    command="grayloft run build test"
  />
{:else}
  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
    <section class="sheet" aria-label="Growth">
      <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Growth by shelf</h2>
      <Growth growth={c.growth} />
    </section>
    <section class="sheet" aria-label="How tasks were settled">
      <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">How tasks were settled, by week</h2>
      <div class="px-4.5 pb-2">
        {#each c.hits.slice(-14) as h (h.week)}
          {@const all = h.fetched + h.restored + h.cached + h.executed}
          <div class="grid grid-cols-[64px_1fr_64px] items-center gap-x-3 py-0.5">
            <span class="small">{dayOf(new Date(h.week))}</span>
            <svg
              width="100%"
              height="12"
              role="img"
              aria-label="{h.fetched} fetched, {h.restored} restored, {h.cached} cached, {h.executed} executed"
            >
              {#each [{ n: h.fetched, at: 0, fill: "fetched" }, { n: h.restored, at: h.fetched, fill: "restored" }, { n: h.cached, at: h.fetched + h.restored, fill: "cached" }, { n: h.executed, at: all - h.executed, fill: "ran" }] as part (part.fill)}<rect
                  x="{(part.at / mostHits) * 100}%"
                  width="{(part.n / mostHits) * 100}%"
                  height="12"
                  fill="var(--{part.fill})"><title>{part.n} {part.fill === "ran" ? "executed" : part.fill}</title></rect
                >{/each}
            </svg>
            <span class="text-right" title="reused">{percent(all ? 1 - h.executed / all : null)}</span>
          </div>
        {/each}
        <p class="flex flex-wrap gap-x-4 small">
          {#each [["fetched", "fetched"], ["restored", "restored"], ["cached", "cached"], ["ran", "executed"]] as [fill, name] (fill)}<span
              class="inline-flex items-center gap-1.5"
              ><svg width="10" height="10" aria-hidden="true"
                ><rect width="10" height="10" rx="2" fill="var(--{fill})" /></svg
              >{name}</span
            >{/each}
        </p>
      </div>
    </section>
    {@render shares("shelf", c.shelves)}
    {@render shares("project", c.projects)}
  </div>
  <p class="mt-1.5 px-1 small">A file that several entries name is stored once, and counts for each of them here.</p>
  <section class="sheet mt-4.5 overflow-x-auto" aria-label="Largest entries">
    <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Largest entries</h2>
    <table class="w-full border-collapse whitespace-nowrap">
      <thead class="text-[12.5px] text-soft"
        ><tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:text-left [&>th]:font-medium"
          ><th class="pl-4.5!">Task</th><th class="text-right!">Size</th><th class="max-sm:hidden">Shelf</th><th
            class="max-md:hidden">Made by</th
          ><th class="max-sm:hidden">Last used</th></tr
        ></thead
      >
      <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
      <tbody onkeydown={rowKeys}>
        {#each c.largest as e, i (e.shelf + e.key)}
          <tr
            data-row={i}
            tabindex="0"
            class="border-t border-hair hover:bg-paper focus-visible:outline-offset-[-2px] [&>td]:px-3 [&>td]:py-1"
          >
            <td class="pl-4.5!"
              ><a
                tabindex="-1"
                href={p("/cache/:key", { params: { key: e.key } }) + `?shelf=${encodeURIComponent(e.shelf ?? "")}`}
                ><code>{e.task}</code></a
              ></td
            >
            <td class="text-right">{bytes(e.bytes)}</td><td class="max-sm:hidden"><code>{e.shelf}</code></td>
            <td class="max-md:hidden"
              >{e.made_by.name} at {e.made_by.place}, <time title={exact(e.made_by.at)}>{when(e.made_by.at)}</time></td
            >
            <td class="max-sm:hidden">{e.last_used}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
  <div class="mt-4.5 grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
    <section class="sheet px-4.5 py-3" aria-label="Evictions">
      <h2 class="text-base font-semibold">Evictions</h2>
      {#if evicted === 0}<p class="text-soft">No entry was evicted in this time.</p>
      {:else}
        <p class="text-soft">{counted(evicted, "entry was", "entries were")} removed.</p>
        {#each c.evictions.slice(0, 40) as e (e.day + e.shelf + e.why)}<div
            class="flex gap-3 border-t border-hair py-1"
          >
            <span>{e.day}</span><code>{e.shelf}</code><span class="small"
              >{e.why === "quota" ? "beyond the quota" : "unused"}</span
            >
            <span class="ml-auto">{counted(e.entries, "entry", "entries")}, {bytes(e.bytes)}</span>
          </div>{/each}
      {/if}
    </section>
    <section class="sheet px-4.5 py-3" aria-label="Retention">
      <h2 class="text-base font-semibold">Quota and retention</h2>
      {#if session.self?.manage}
        <form class="mt-1.5 grid gap-2" onsubmit={save}>
          <label class="flex items-center gap-2"
            ><input class={field} type="number" min="0" step="0.1" placeholder="default" bind:value={quota} /> GB for this
            repository; empty for the service's default</label
          >
          <label class="flex items-center gap-2"
            ><input class={field} type="number" min="0" placeholder="default" bind:value={keep} /> days that an unused entry
            is kept</label
          >
          <div class="flex items-center gap-3">
            <button class="control border-copper font-semibold text-copper">Save</button><span role="status"
              >{said}</span
            >
          </div>
          {#if trouble}<p class="text-failed" role="alert">{trouble}</p>{/if}
        </form>
      {:else}<p class="text-soft">
          {c.quota ? bytes(c.quota) : "No quota"}; {c.days ? counted(c.days, "day") : "for ever"}. A token with the
          right to manage can change it.
        </p>{/if}
      {#each c.shelf_quotas as q (q.pattern)}<div class="mt-1 flex justify-between border-t border-hair pt-1">
          <code>{q.pattern}</code><span>{bytes(q.bytes)} each</span>
        </div>{/each}
    </section>
  </div>
{/if}
