<script lang="ts">
  import { untrack } from "svelte";
  import { facets, tasks as ask, type Facets, type TaskPage, type TaskQuery, type TaskRow } from "../lib/api";
  import { numberParam, param, setParam } from "../lib/address";
  import Choice from "../lib/Choice.svelte";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import Pick from "../lib/Pick.svelte";
  import { p } from "../lib/routes";
  import { copyTable, rowKeys } from "../lib/rows";
  import { session } from "../lib/session.svelte";
  import SortHead from "../lib/SortHead.svelte";
  import Trend from "../lib/Trend.svelte";
  import { bytes, counted, dayOf, many, percent, seconds } from "../lib/words";

  const size = 100;
  const spans = [
    { value: 1, name: "this week" },
    { value: 4, name: "4 weeks" },
    { value: 13, name: "13 weeks" },
    { value: 53, name: "a year" },
  ];
  const weeks = $derived(spans.some((s) => s.value === numberParam("weeks", 13)) ? numberParam("weeks", 13) : 13);
  const sort = $derived(param("sort", "time"));
  const up = $derived(param("order") === "up");
  const from = $derived(numberParam("from", 0));
  const query = $derived<TaskQuery>({
    weeks,
    place: param("place") || undefined,
    text: param("text") || undefined,
    sort: sort as TaskQuery["sort"],
    order: up ? "up" : "down",
    skip: from,
    limit: size,
  });
  const loader = new Loader<TaskPage>();
  const values = new Loader<Facets>();
  const load = () => ask(session.repo, query);
  $effect(() => {
    void query;
    untrack(() => loader.ask(load));
  });
  $effect(() => untrack(() => void values.ask(() => facets(session.repo, 365))));
  const page = $derived(loader.data);

  function order(column: string) {
    setParam("from", "");
    setParam("order", sort === column ? (up ? "" : "up") : column === "task" ? "up" : "");
    setParam("sort", column, "time");
  }
  function set(name: string, value: string | number, otherwise: string | number = "") {
    setParam("from", "");
    setParam(name, value, otherwise);
  }
  const columns: { id: string; name: string; hide: string; say: (t: TaskRow) => string; tint?: string }[] = [
    { id: "time", name: "Time spent", hide: "", say: (t) => seconds(t.run_seconds) },
    { id: "executed", name: "Executed", hide: "max-sm:hidden", say: (t) => many(t.executed) },
    { id: "mean", name: "Mean", hide: "max-md:hidden", say: (t) => (t.executed ? seconds(t.mean_seconds) : "–") },
    { id: "hits", name: "Hit rate", hide: "", say: (t) => percent(t.hit_rate) },
    { id: "saved", name: "Saved", hide: "max-md:hidden", say: (t) => seconds(t.saved_seconds), tint: "text-saved" },
    { id: "transferred", name: "Fetched", hide: "max-lg:hidden", say: (t) => (t.bytes_in ? bytes(t.bytes_in) : "–") },
    { id: "failed", name: "Failed", hide: "max-sm:hidden", say: (t) => (t.failed ? many(t.failed) : "–") },
    {
      id: "same",
      name: "Same outputs",
      hide: "max-lg:hidden",
      say: (t) => (t.same_outputs ? many(t.same_outputs) : "–"),
    },
    {
      id: "critical",
      name: "Critical",
      hide: "max-lg:hidden",
      say: (t) => (t.critical_runs ? many(t.critical_runs) : "–"),
    },
  ];
  const copy = () =>
    copyTable(
      ["task", "project", ...columns.map((c) => c.name.toLowerCase()), "declared"],
      (page?.tasks ?? []).map((t) => [t.task, t.project, ...columns.map((c) => c.say(t)), t.at]),
    );
</script>

<Heading title="Tasks">
  {#if page && page.tasks.length > 0 && sort === "time" && !up && from === 0}
    {counted(page.total, "task")}; most time went into <code class="text-[19px]">{page.tasks[0].task}</code>: {seconds(
      page.tasks[0].run_seconds,
    )}
  {:else if page}{counted(page.total, "task")}{:else}Tasks{/if}
  {#snippet about()}
    {#if page}Since Monday, {dayOf(new Date(page.since))}. A task is executed when it runs; otherwise its result is
      reused.{/if}
  {/snippet}
  {#snippet controls()}
    <Choice label="Time" value={weeks} items={spans} onchange={(v) => set("weeks", v, 13)} />
  {/snippet}
</Heading>
<div class="mb-3 flex flex-wrap items-center gap-2">
  <input
    type="search"
    class="w-56 rounded-control border border-line bg-sheet px-2.5 py-1"
    placeholder="part of a task's address"
    aria-label="Filter tasks by their address"
    value={param("text")}
    oninput={(e) => set("text", e.currentTarget.value)}
  />
  <Pick label="Place" value={param("place")} items={values.data?.places ?? []} onchange={(v) => set("place", v)} />
  <button class="ml-auto text-copper underline" onclick={copy}>copy as TSV</button>
</div>
{#if loader.trouble && !page}
  <Notice
    title="The tasks could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !page}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else if page.total === 0}
  <Notice
    title={param("text") || param("place") ? "No task matches" : "No run is recorded in these weeks"}
    text="Tasks are listed here once runs are recorded."
    command="grayloft run build test"
  />
{:else}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="sheet max-h-[72vh] overflow-auto" tabindex="0" role="region" aria-label="Tasks">
    <table class="w-full border-collapse whitespace-nowrap">
      <thead class="text-[12.5px] text-soft">
        <tr>
          <SortHead name="Task" column="task" {sort} {up} right={false} class="pl-4.5" onsort={order} />
          <th class="sticky top-0 bg-sheet px-3 py-2 text-left font-medium max-md:hidden">Time by week</th>
          {#each columns as c (c.id)}<SortHead
              name={c.name}
              column={c.id}
              {sort}
              {up}
              class={c.hide}
              onsort={order}
            />{/each}
        </tr>
      </thead>
      <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
      <tbody onkeydown={rowKeys}>
        {#each page.tasks as t, i (t.task)}
          <tr
            data-row={i}
            tabindex="0"
            class="border-t border-hair hover:bg-paper focus-visible:outline-offset-[-2px] [&>td]:px-3 [&>td]:py-1.5"
          >
            <td class="pl-4.5! max-sm:max-w-44 max-sm:truncate"
              ><a
                tabindex="-1"
                href={p("/tasks/:task", { params: { task: t.task } }) + (weeks !== 13 ? `?weeks=${weeks}` : "")}
                class="text-ink no-underline hover:underline"
                title={t.at}><code>{t.task}</code></a
              >
              {#if t.owner}<span class="small max-lg:hidden">{t.owner}</span>{/if}</td
            >
            <td class="max-md:hidden"
              ><Trend values={t.trend} label="Seconds by week: {t.trend.map((v) => v.toFixed(0)).join(', ')}" /></td
            >
            {#each columns as c (c.id)}<td class="text-right {c.hide} {c.tint ?? ''}">{c.say(t)}</td>{/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if page.total > size}
    <div class="mt-2 flex items-center gap-3 px-1">
      <button
        class="control disabled:opacity-50"
        disabled={from === 0}
        onclick={() => setParam("from", Math.max(0, from - size), 0)}>Previous</button
      >
      <span class="small">{many(from + 1)} to {many(from + page.tasks.length)} of {many(page.total)}</span>
      <button
        class="control disabled:opacity-50"
        disabled={from + size >= page.total}
        onclick={() => setParam("from", from + size, 0)}>Next</button
      >
    </div>
  {/if}
{/if}
