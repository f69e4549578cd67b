<script lang="ts">
  import { untrack } from "svelte";
  import { run as ask, type RunDetail, type TaskRecord } from "../lib/api";
  import { param } from "../lib/address";
  import Glyph from "../lib/Glyph.svelte";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { p, navigate } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import { bytes, counted, exact, seconds, when } from "../lib/words";

  // Two runs side by side, the earlier one left.
  const ids = $derived([param("a"), param("b")]);
  const loader = new Loader<RunDetail[]>();
  const load = () =>
    Promise.all(ids.map((id) => ask(session.repo, id))).then((list) =>
      list.sort((a, b) => a.started.localeCompare(b.started)),
    );
  $effect(() => {
    void ids;
    untrack(() => loader.ask(load, true));
  });
  const a = $derived(loader.data?.[0]);
  const b = $derived(loader.data?.[1]);

  type Pair = { task: string; left?: TaskRecord; right?: TaskRecord; weight: number };
  const pairs = $derived.by(() => {
    // eslint-disable-next-line svelte/prefer-svelte-reactivity -- not followed by anything
    const by = new Map<string, Pair>();
    for (const r of a?.records ?? []) by.set(r.task, { task: r.task, left: r, weight: 0 });
    for (const r of b?.records ?? []) {
      const pair = by.get(r.task) ?? { task: r.task, weight: 0 };
      pair.right = r;
      by.set(r.task, pair);
    }
    for (const x of by.values())
      x.weight =
        (x.left?.key !== x.right?.key ? 1e6 : 0) +
        (x.left?.outcome !== x.right?.outcome ? 1e5 : 0) +
        Math.abs((x.left?.seconds ?? 0) - (x.right?.seconds ?? 0));
    return [...by.values()].sort((x, y) => y.weight - x.weight);
  });
  const differing = $derived(pairs.filter((x) => x.left?.key !== x.right?.key).length);
  const facts = [
    {
      name: "Outcome",
      of: (r: RunDetail) => (r.ok ? "passed" : r.interrupted ? "interrupted" : r.running ? "running" : "failed"),
    },
    { name: "Took", of: (r: RunDetail) => seconds(r.seconds) },
    { name: "Saved", of: (r: RunDetail) => seconds(r.saved_seconds) },
    { name: "Sharing cost", of: (r: RunDetail) => seconds(r.cost_seconds) },
    { name: "Transferred", of: (r: RunDetail) => `${bytes(r.bytes_in)} in, ${bytes(r.bytes_out)} out` },
    { name: "Executed", of: (r: RunDetail) => counted((r.totals.ran ?? 0) + (r.totals.failed ?? 0), "task") },
    { name: "Critical path", of: (r: RunDetail) => seconds(r.critical_seconds) },
    { name: "Commit", of: (r: RunDetail) => (r.commit ? `${r.commit.slice(0, 7)} on ${r.branch}` : "–") },
  ];
  const address = (run: RunDetail, task: string, other: RunDetail) =>
    p("/runs/:id", { params: { id: run.id } }) + `?task=${encodeURIComponent(task)}&tab=compare&with=${other.id}`;
</script>

{#if loader.trouble}
  <Notice
    title="The runs could not be loaded"
    text={loader.trouble}
    action="To the runs"
    onaction={() => navigate("/")}
  />
{:else if !a || !b}
  <div class="sheet h-72 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else}
  <Heading title="Compare">
    {differing === 0 ? "No task has other inputs" : `${counted(differing, "task has", "tasks have")} other inputs`}; the
    second run took {seconds(Math.abs(b.seconds - a.seconds))}
    {b.seconds >= a.seconds ? "longer" : "less"}
  </Heading>
  <section class="sheet overflow-x-auto" aria-label="The two runs">
    <table class="w-full border-collapse">
      <thead>
        <tr class="border-b border-line [&>th]:px-4.5 [&>th]:py-2 [&>th]:text-left [&>th]:font-medium">
          <th><span class="sr-only">figure</span></th>
          {#each [a, b] as r (r.id)}<th
              ><a href={p("/runs/:id", { params: { id: r.id } })}>{r.requested.join(" ") || "picked"}</a>
              <div class="font-normal small">
                {r.name} at {r.place}, <time datetime={r.started} title={exact(r.started)}>{when(r.started)}</time>
              </div></th
            >{/each}
        </tr>
      </thead>
      <tbody>
        {#each facts as f (f.name)}
          <tr class="border-b border-hair [&>td]:px-4.5 [&>td]:py-1.5"
            ><td class="text-soft">{f.name}</td><td>{f.of(a)}</td><td>{f.of(b)}</td></tr
          >
        {/each}
      </tbody>
    </table>
  </section>
  <section class="sheet mt-4.5 overflow-x-auto" aria-label="Tasks of both runs">
    <table class="w-full border-collapse whitespace-nowrap">
      <thead class="text-left text-[12.5px] text-soft">
        <tr class="border-b border-line [&>th]:px-3 [&>th]:py-2 [&>th]:font-medium [&>th:first-child]:pl-4.5">
          <th>Task</th><th>Inputs</th><th>First run</th><th class="text-right">Took</th><th>Second run</th><th
            class="text-right">Took</th
          >
        </tr>
      </thead>
      <tbody>
        {#each pairs as x (x.task)}
          <tr class="border-b border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
            <td><a href={address(b, x.task, a)}><code>{x.task}</code></a></td>
            <td class="small"
              >{!x.left || !x.right ? "only in one" : x.left.key === x.right.key ? "the same" : "differ"}</td
            >
            {#each [x.left, x.right] as r, i (i)}
              <td
                >{#if r}<span class="inline-flex items-center gap-1.5"><Glyph outcome={r.outcome} />{r.outcome}</span
                  >{#if r.reason}<span class="small"> {r.reason}</span>{/if}{/if}</td
              >
              <td class="text-right">{r ? seconds(r.seconds) : ""}</td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
{/if}
