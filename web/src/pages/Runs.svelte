<script lang="ts">
  import { untrack } from "svelte";
  import {
    balance as askBalance,
    facets as askFacets,
    follow,
    type Balance as Sums,
    type Facets,
    type RunQuery,
  } from "../lib/api";
  import { numberParam, param, setParam } from "../lib/address";
  import Balance from "../lib/Balance.svelte";
  import Choice from "../lib/Choice.svelte";
  import Heading from "../lib/Heading.svelte";
  import Ledger from "../lib/Ledger.svelte";
  import Legend from "../lib/Legend.svelte";
  import { Loader } from "../lib/load.svelte";
  import { measureOf, measures } from "../lib/measures";
  import Notice from "../lib/Notice.svelte";
  import Pick from "../lib/Pick.svelte";
  import { navigate } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import { counted, seconds } from "../lib/words";

  const spans = [
    { value: "2", name: "2 days" },
    { value: "14", name: "14 days" },
    { value: "last-month", name: "last month" },
    { value: "90", name: "90 days" },
    { value: "365", name: "a year" },
  ];
  const span = $derived(spans.some((s) => s.value === param("days")) ? param("days") : "14");
  const groupings = ["place", "branch", "person", "shelf"] as const;
  const by = $derived(groupings.find((g) => g === param("by")) ?? "place");
  const measure = $derived(measureOf(param("measure")));
  const asTable = $derived(param("as") === "table");
  const ranges = ["took", "saved", "cost", "ran"] as const;
  const units: Record<string, string> = { took: "s", saved: "s", cost: "s", ran: "tasks" };

  const times = $derived.by(() => {
    if (span !== "last-month") return { days: Number(span) };
    const now = new Date();
    return {
      since: new Date(now.getFullYear(), now.getMonth() - 1, 1).toISOString(),
      until: new Date(now.getFullYear(), now.getMonth(), 1).toISOString(),
    };
  });
  const narrow = $derived({
    text: param("find") || undefined,
    person: param("person") || undefined,
    branch: param("branch") || undefined,
    place: param("place") || undefined,
    shelf: param("shelf") || undefined,
    commit: param("commit") || undefined,
    task: param("of") || undefined,
    outcome: (param("outcome") || undefined) as RunQuery["outcome"],
    ...Object.fromEntries(
      ranges.flatMap((r) =>
        ["least", "most"].map((end) => {
          const n = numberParam(`${end}_${r}`, NaN);
          return [`${end}_${r}`, Number.isNaN(n) ? undefined : n];
        }),
      ),
    ),
  });
  const query = $derived<RunQuery>({ ...times, ...narrow });
  const narrowed = $derived(Object.values(narrow).some((v) => v !== undefined));

  const sums = new Loader<Sums>();
  const values = new Loader<Facets>();
  let changes = $state(0);
  let picked = $state<string[]>([]);
  const ask = () => askBalance(session.repo, { ...query, by });

  $effect(() => {
    void [query, by];
    untrack(() => sums.ask(ask));
  });
  $effect(() => {
    const days = "days" in times ? Number(times.days) : 70;
    untrack(() => values.ask(() => askFacets(session.repo, Math.max(days, 14))));
  });
  $effect(() =>
    follow(session.repo, () => {
      changes++;
      sums.refresh(ask);
    }),
  );

  function clear() {
    for (const name of Object.keys(narrow)) setParam(name === "text" ? "find" : name === "task" ? "of" : name, "");
  }
  const filters = $derived([
    { id: "place", label: "Place", items: values.data?.places ?? [] },
    { id: "person", label: "Person", items: values.data?.people ?? [] },
    { id: "branch", label: "Branch", items: values.data?.branches ?? [] },
    { id: "shelf", label: "Shelf", items: values.data?.shelves ?? [] },
    { id: "outcome", label: "Outcome", items: ["passed", "failed", "interrupted", "running", "lost"] },
  ]);
  const period = $derived(spans.find((s) => s.value === span)?.name);
  const since = $derived(span === "last-month" ? "last month" : `in the last ${period?.replace("a year", "year")}`);
  const none = $derived(sums.data?.total.runs === 0);
</script>

<Heading title="Runs">
  {#if sums.data && none}
    No run {narrowed ? "matches" : since}
  {:else if sums.data}
    {counted(sums.data.total.runs, "run")} saved
    <span class="text-saved">{seconds(sums.data.total.saved_seconds)}</span> of work; sharing cost
    <span class="text-cost">{seconds(sums.data.total.cost_seconds)}</span>
  {:else}Runs{/if}
  {#snippet about()}
    {#if none && !narrowed}Of all places, people and branches{:else}
      {span === "last-month" ? "Last month" : `The last ${period?.replace("a year", "year")}`}{narrowed
        ? ", of the runs that match"
        : ", all runs"}
    {/if}
  {/snippet}
  {#snippet controls()}
    <Choice label="Time" value={span} items={spans} onchange={(v) => setParam("days", v, "14")} />
  {/snippet}
</Heading>

{#if !none || narrowed}
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <Choice
      label="Measure"
      value={measure.id}
      items={measures.map((m) => ({ value: m.id, name: m.name }))}
      onchange={(v) => setParam("measure", v, "saved")}
    />
    <Pick label="by" value={by} any="" items={[...groupings]} onchange={(v) => setParam("by", v, "place")} />
    <button class="control" aria-pressed={asTable} onclick={() => setParam("as", asTable ? "" : "table")}
      >{asTable ? "As a chart" : "As a table"}</button
    >
  </div>
{/if}

{#if sums.trouble && !sums.data}
  <Notice
    title="The balance could not be loaded"
    text={sums.trouble}
    action="Try again"
    onaction={() => sums.ask(ask)}
  />
{:else if !sums.data}
  <div class="sheet h-64 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else if none && !narrowed}
  <Notice
    title={span === "365" ? "No run is recorded yet" : `No run is recorded ${since}`}
    text="Runs are recorded when somebody runs tasks and is logged in to this service."
    command="grayloft login {location.origin} && grayloft run build test"
    action={span === "365" ? undefined : "Show a year"}
    onaction={() => setParam("days", "365", "14")}
  />
{:else if sums.data.groups.length > 0}
  <Balance balance={sums.data} {measure} {asTable} onname={(name) => setParam(by, name)} />
{/if}

{#if !none || narrowed}
  <div class="mt-4.5 flex flex-wrap items-center gap-2" role="group" aria-label="Filters">
    {#each filters as f (f.id)}
      <Pick label={f.label} value={param(f.id)} items={f.items} onchange={(v) => setParam(f.id, v)} />
    {/each}
    <details class="relative">
      <summary class="control cursor-pointer list-none">More filters</summary>
      <div class="sheet absolute z-10 mt-1 grid w-72 gap-2 p-4 max-sm:right-auto">
        {#each ranges as r (r)}
          <div class="grid grid-cols-[52px_1fr_1fr_34px] items-center gap-2">
            <span class="small capitalize">{r}</span>
            {#each ["least", "most"] as end (end)}
              <input
                type="number"
                class="w-full min-w-0 rounded-control border border-line bg-paper px-2 py-0.5"
                placeholder={end}
                aria-label="{r}: {end}, in {units[r]}"
                value={param(`${end}_${r}`)}
                onchange={(e) => setParam(`${end}_${r}`, e.currentTarget.value)}
              />
            {/each}
            <span class="small">{units[r]}</span>
          </div>
        {/each}
        {#each [{ id: "of", label: "Task", hint: "test@fares" }, { id: "commit", label: "Commit", hint: "its start" }] as f (f.id)}
          <label class="grid grid-cols-[52px_1fr] items-center gap-2"
            ><span class="small">{f.label}</span>
            <input
              class="w-full min-w-0 rounded-control border border-line bg-paper px-2 py-0.5"
              placeholder={f.hint}
              value={param(f.id)}
              onchange={(e) => setParam(f.id, e.currentTarget.value)}
            /></label
          >
        {/each}
      </div>
    </details>
    {#if narrowed}<button class="text-copper underline" onclick={clear}>show all</button>{/if}
    <span class="ml-auto"></span>
    <button
      class="control disabled:opacity-50"
      disabled={picked.length !== 2}
      title="select two runs in the list, with the mouse or with the space bar"
      onclick={() => navigate("/compare", { search: { a: picked[0], b: picked[1] } })}
      >Compare {picked.length === 2 ? "the two selected runs" : "two selected runs"}</button
    >
  </div>
  <Ledger {query} {changes} {picked} onpicked={(ids) => (picked = ids)} />
{/if}
<div class="mt-3 px-1"><Legend /></div>
