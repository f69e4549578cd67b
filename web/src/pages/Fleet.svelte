<script lang="ts">
  import { untrack } from "svelte";
  import { fleet as askFleet, follow, requests as askRequests, type Fleet, type Request } from "../lib/api";
  import { numberParam, param, setParam } from "../lib/address";
  import { revisionOf, whatOf } from "../lib/fleet";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import RequestDialog from "../lib/RequestDialog.svelte";
  import { p } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import StateMark from "../lib/StateMark.svelte";
  import { counted, exact, seconds, states, when } from "../lib/words";

  const now = new Loader<Fleet>();
  const list = new Loader<{ requests: Request[]; next?: number }>();
  const own = new Loader<Request[]>();
  const who = $derived(param("by"));
  const open = $derived(param("open") === "yes");
  const before = $derived(numberParam("before", 0));
  const loadNow = () => askFleet(session.repo);
  const loadList = () =>
    askRequests(session.repo, { before, limit: 50, name: who || undefined, open: open || undefined });
  const loadOwn = async () => (await askRequests(session.repo, { name: session.self?.name, limit: 1 })).requests;

  $effect(() => {
    void [who, open, before];
    untrack(() => {
      now.ask(loadNow);
      list.ask(loadList);
      own.ask(loadOwn);
    });
  });
  // Runs that begin and end change claims; requests and runners change both.
  $effect(() => {
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const again = () => {
      waiting ??= setTimeout(() => {
        waiting = undefined;
        now.refresh(loadNow);
        list.refresh(loadList);
      }, 500);
    };
    const stop = follow(session.repo, again, undefined, again);
    const each = setInterval(() => now.refresh(loadNow), 15_000);
    return () => {
      stop();
      clearInterval(each);
      clearTimeout(waiting);
    };
  });

  const there = $derived((now.data?.runners ?? []).filter((r) => r.state !== "gone"));
  const sum = (of: "queued" | "running") => (now.data?.pools ?? []).reduce((n, x) => n + x[of], 0);
  const sentence = $derived.by(() => {
    if (!now.data) return "Fleet";
    if (there.length === 0) return "No runner serves this repository now";
    const work = sum("running") === 0 ? "nothing runs" : `${counted(sum("running"), "job runs", "jobs run")}`;
    const wait = sum("queued") === 0 ? "nothing waits" : `${counted(sum("queued"), "waits", "wait")}`;
    return `${counted(there.length, "runner serves", "runners serve")} this repository; ${work}, ${wait}`;
  });
  const took = (q: Request) =>
    q.started && q.ended ? seconds((Date.parse(q.ended) - Date.parse(q.started)) / 1000) : "";
  const runnersOf = (q: Request) => [...new Set(q.jobs.map((j) => j.runner).filter(Boolean))].join(", ");
  let asking = $state(false);
</script>

<Heading title="Fleet">
  {sentence}
  {#snippet about()}Runners carry out requested runs. A claim says that a machine runs a task now, so that others wait
    for its result.{/snippet}
  {#snippet controls()}
    {#if session.self?.request}
      <button class="control border-copper font-semibold text-copper" onclick={() => (asking = true)}
        >Request a run</button
      >
    {/if}
  {/snippet}
</Heading>
<RequestDialog bind:open={asking} pools={now.data?.pools ?? []} last={own.data?.[0]?.ask} />
{#if now.trouble}
  <Notice
    title="The fleet could not be loaded"
    text={now.trouble}
    action="Try again"
    onaction={() => now.ask(loadNow)}
  />
{/if}

<div class="mb-4.5 grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-2">
  <section class="sheet overflow-x-auto" aria-label="Runners">
    <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Runners</h2>
    <table class="w-full border-collapse">
      <thead class="text-left text-[12.5px] text-soft">
        <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5"
          ><th>Name</th><th>State</th><th>Pool</th><th class="max-sm:hidden">Tasks at a time</th><th class="text-right"
            >Jobs done</th
          ><th class="max-sm:hidden">Seen</th></tr
        >
      </thead>
      <tbody>
        {#each now.data?.runners ?? [] as r (r.id)}
          <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5" data-runner={r.name}>
            <td class="font-medium {r.state === 'gone' ? 'text-soft' : ''}">{r.name}</td>
            <td
              >{r.state}{#each r.busy as b (b.job)}, <a href={p("/fleet/:id", { params: { id: String(b.request) } })}
                  >request {b.request}</a
                >{/each}</td
            >
            <td>{r.pool}{r.protected ? " (protected)" : ""}</td>
            <td class="max-sm:hidden">{r.jobs > 1 ? `${r.jobs} × ${r.slots}` : r.slots}</td>
            <td class="text-right">{r.done}</td>
            <td class="whitespace-nowrap max-sm:hidden"><time title={exact(r.seen)}>{when(r.seen)}</time></td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if now.data && now.data.runners.length === 0}
      <p class="px-4.5 pb-3 text-soft">
        None was seen in the last day. <code class="break-all"
          >grayloft runner --pool linux --from https://git.skerry.example/skerry.git</code
        > starts one.
      </p>
    {/if}
    {#if now.data && now.data.protection.refs.length + now.data.protection.pools.length > 0}
      <p class="border-t border-hair px-4.5 py-2 small">
        Protected branches: {now.data.protection.refs.join(", ") || "none"}. Protected pools: {now.data.protection.pools.join(
          ", ",
        ) || "none"}; only they write to the trusted shelf.
      </p>
    {/if}
  </section>

  <section class="sheet overflow-x-auto" aria-label="Claims in flight">
    <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Claims in flight</h2>
    <table class="w-full border-collapse">
      <thead class="text-left text-[12.5px] text-soft">
        <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5"
          ><th>Task</th><th>Run by</th><th class="max-sm:hidden">For the shelf</th><th class="text-right">Runs for</th
          ><th class="text-right">Expected</th></tr
        >
      </thead>
      <tbody>
        {#each now.data?.claims ?? [] as c (c.id)}
          <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5" data-claim={c.task}>
            <td
              ><a href={`${p("/runs/:id", { params: { id: c.run } })}?task=${encodeURIComponent(c.task)}`}>{c.task}</a
              ></td
            >
            <td>{c.name}{c.place ? `, ${c.place}` : ""}</td>
            <td class="max-sm:hidden"><code>{c.shelf}</code></td>
            <td class="text-right whitespace-nowrap">{seconds(c.elapsed)}</td>
            <td class="text-right whitespace-nowrap">{c.seconds > 0 ? seconds(c.seconds) : "unknown"}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if now.data?.claims.length === 0}<p class="px-4.5 pb-3 text-soft">
        No machine runs a task that others could wait for.
      </p>{/if}
  </section>
</div>

<section class="sheet overflow-x-auto" aria-label="Requests">
  <div class="flex flex-wrap items-center gap-x-4 gap-y-1.5 px-4.5 pt-3 pb-1.5">
    <h2 class="flex-1 text-base font-semibold">Requests</h2>
    <label class="flex items-center gap-2 text-soft"
      ><input
        type="checkbox"
        class="accent-copper"
        checked={open}
        onchange={(e) => setParam("open", e.currentTarget.checked ? "yes" : "")}
      /> waiting or running</label
    >
    <label class="flex items-center gap-2 text-soft"
      ><input
        type="checkbox"
        class="accent-copper"
        checked={who === session.self?.name}
        onchange={(e) => setParam("by", e.currentTarget.checked ? (session.self?.name ?? "") : "")}
      /> mine</label
    >
  </div>
  <table class="w-full border-collapse">
    <thead class="text-left text-[12.5px] text-soft">
      <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5">
        <th class="text-right">Number</th><th>State</th><th>What</th><th class="max-md:hidden">Revision</th><th
          class="max-sm:hidden">By</th
        ><th class="max-md:hidden">Pool</th><th class="max-lg:hidden">Runner</th><th class="max-sm:hidden">When</th><th
          class="text-right max-sm:hidden">Took</th
        >
      </tr>
    </thead>
    <tbody>
      {#each list.data?.requests ?? [] as q (q.id)}
        <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5" data-request={q.id}>
          <td class="text-right"><a href={p("/fleet/:id", { params: { id: String(q.id) } })}>{q.id}</a></td>
          <td class="whitespace-nowrap"
            ><StateMark state={q.state} />
            {q.state}{q.ahead ? `, ${q.ahead} before it` : ""}</td
          >
          <td class="break-words">{whatOf(q.ask)}</td>
          <td class="whitespace-nowrap max-md:hidden"><code>{revisionOf(q.ask)}</code></td>
          <td class="max-sm:hidden">{q.name}{q.origin === "person" ? "" : ` (${q.origin})`}</td>
          <td class="max-md:hidden">{q.ask.pool}</td>
          <td class="max-lg:hidden">{runnersOf(q)}</td>
          <td class="whitespace-nowrap max-sm:hidden"><time title={exact(q.at)}>{when(q.at)}</time></td>
          <td class="text-right whitespace-nowrap max-sm:hidden">{took(q)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if list.trouble}<p class="px-4.5 py-3">The requests could not be loaded: {list.trouble}</p>{/if}
  {#if list.data?.requests.length === 0}
    <p class="px-4.5 py-3 text-soft">
      No request{open || who ? " fits" : " yet"}. <code>grayloft request TASK</code> makes one from a checkout.
    </p>
  {/if}
  {#if before || list.data?.next}
    <div class="flex gap-4 px-4.5 py-2">
      {#if before}<button class="text-copper underline" onclick={() => setParam("before", "")}>newest</button>{/if}
      {#if list.data?.next}<button
          class="text-copper underline"
          onclick={() => setParam("before", list.data?.next ?? "")}>older</button
        >{/if}
    </div>
  {/if}
  <dl class="flex flex-wrap gap-x-5 gap-y-1 border-t border-hair px-4.5 py-2 small" aria-label="Legend">
    {#each Object.entries(states) as [state, text] (state)}
      <div class="flex items-center gap-1.5">
        <StateMark state={state as Request["state"]} />
        <dt class="font-medium">{state}</dt>
        <dd>{text}</dd>
      </div>
    {/each}
  </dl>
</section>
