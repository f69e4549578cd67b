<script lang="ts">
  import { untrack } from "svelte";
  import { task as ask, type TaskBehaviour } from "../lib/api";
  import { numberParam, param, setParam } from "../lib/address";
  import Causes from "../lib/Causes.svelte";
  import Choice from "../lib/Choice.svelte";
  import Findings from "../lib/Findings.svelte";
  import Glyph from "../lib/Glyph.svelte";
  import Heading from "../lib/Heading.svelte";
  import History from "../lib/History.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import PlaceRow from "../lib/PlaceRow.svelte";
  import { navigate, p, route } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import { counted, dayOf, exact, many, percent, reasons, seconds, when } from "../lib/words";

  const spans = [
    { value: 1, name: "this week" },
    { value: 13, name: "13 weeks" },
    { value: 53, name: "a year" },
  ];
  const name = $derived(String(route.params.task ?? ""));
  const weeks = $derived(numberParam("weeks", 13));
  const loader = new Loader<TaskBehaviour>();
  const load = () => ask(session.repo, name, weeks);
  $effect(() => {
    void [name, weeks];
    untrack(() => loader.ask(load, loader.data?.task !== name));
  });
  const t = $derived(loader.data);
  const asTable = $derived(param("as") === "table");
  const values = $derived((t?.places ?? []).flatMap((x) => [...x.run.values, ...x.fetch.values]).filter((v) => v > 0));
  const least = $derived(Math.max(0.001, Math.min(...values, 1e9) * 0.9));
  const most = $derived(Math.max(...values, least * 2) * 1.1);
  const why = $derived.by(() => {
    // eslint-disable-next-line svelte/prefer-svelte-reactivity -- not followed by anything
    const sums = new Map<string, number>();
    for (const r of t?.reasons ?? []) sums.set(r.reason, (sums.get(r.reason) ?? 0) + r.n);
    return [...sums].sort((a, b) => b[1] - a[1]);
  });
  const weekly = $derived([...new Set((t?.reasons ?? []).map((r) => r.week))]);
  const byWeek = (reason: string) =>
    weekly.map((w) => t?.reasons.find((r) => r.week === w && r.reason === reason)?.n ?? 0);
  const mostWhy = $derived(Math.max(1, ...(t?.reasons ?? []).map((r) => r.n)));
</script>

{#if loader.status === 404 && !t}
  <Notice
    title="There is no such task"
    text="No run recorded a task with the address {name}."
    action="To the tasks"
    onaction={() => navigate("/tasks")}
  />
{:else if loader.trouble && !t}
  <Notice
    title="The task could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !t}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else}
  <Heading title={t.task}>
    <code class="text-[19px]">{t.task}</code>
    {#if t.executed + t.reused === 0}was not needed in this time
    {:else}was executed {counted(t.executed, "time")}{t.executed ? `, ${seconds(t.mean_seconds)} each` : ""}, and reused {counted(
        t.reused,
        "time",
      )}{/if}
    {#snippet about()}
      {t.help ? `${t.help} · ` : ""}{t.owner ? `${t.owner} · ` : ""}{#if t.at}declared in <code class="select-all"
          >{t.at}</code
        >{:else}not declared any more{/if}
    {/snippet}
    {#snippet controls()}<Choice
        label="Time"
        value={weeks}
        items={spans}
        onchange={(v) => setParam("weeks", v, 13)}
      />{/snippet}
  </Heading>

  <section class="sheet mb-4.5" aria-label="Figures">
    <div class="flex flex-wrap gap-x-9 gap-y-3 px-4.5 py-3.5">
      {#each [{ name: "Time spent", text: seconds(t.run_seconds), tint: "" }, { name: "Saved by reuse", text: seconds(t.saved_seconds), tint: "text-saved" }, { name: "Hit rate", text: percent(t.hit_rate), tint: "" }, { name: "Failed", text: many(t.failed), tint: t.failed ? "text-failed" : "" }, ...(t.declaration && !t.declaration.has_outputs ? [] : [{ name: "Same outputs as before", text: `${many(t.same_outputs)} of ${many(t.executed)}`, tint: "" }]), { name: "On the critical path", text: counted(t.critical_runs, "run"), tint: "" }] as f (f.name)}
        <div>
          <div class="small">{f.name}</div>
          <div class="text-[19px] font-semibold tracking-tight {f.tint}">{f.text}</div>
        </div>
      {/each}
    </div>
  </section>

  {#if t.advice.length > 0}
    <section class="sheet mb-4.5" aria-label="Advice">
      <h2 class="px-4.5 pt-3 text-base font-semibold">Advice</h2>
      <Findings findings={t.advice} named={false} />
    </section>
  {/if}

  {#if t.points.length > 0}
    <section class="sheet mb-4.5" aria-label="Duration over time">
      <div class="flex flex-wrap items-baseline gap-x-4 px-4.5 pt-3 pb-1">
        <h2 class="text-base font-semibold">Duration over time</h2>
        <span class="flex gap-x-3 small">
          {#each ["ran", "failed", "fetched", "restored"] as const as o (o)}<span class="inline-flex items-center gap-1"
              ><Glyph outcome={o} />{o}</span
            >{/each}
        </span>
        <button class="ml-auto text-copper underline" onclick={() => setParam("as", asTable ? "" : "table")}
          >{asTable ? "as a chart" : "as a table"}</button
        >
      </div>
      {#if asTable}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <div class="max-h-80 overflow-auto" tabindex="0" role="region" aria-label="Durations">
          <table class="w-full border-collapse whitespace-nowrap">
            <tbody>
              {#each t.points as x, i (i)}<tr class="border-t border-hair [&>td]:px-4.5 [&>td]:py-1">
                  <td
                    ><a href={p("/runs/:id", { params: { id: x.run } }) + `?task=${encodeURIComponent(t.task)}`}
                      ><time title={exact(x.at)}>{when(x.at)}</time></a
                    ></td
                  >
                  <td>{x.place}</td><td>{x.outcome}</td><td class="small">{x.reason}</td><td class="text-right"
                    >{seconds(x.seconds)}</td
                  >
                </tr>{/each}
            </tbody>
          </table>
        </div>
      {:else}<History points={t.points} task={t.task} />{/if}
    </section>
  {/if}

  {#if t.places.length > 0}
    <section class="sheet mb-4.5" aria-label="Running against fetching">
      <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Running against fetching, by place</h2>
      {#each t.places as place (place.place)}<PlaceRow {place} {least} {most} />{/each}
      <p class="border-t border-hair px-4.5 py-2 small">
        A dot is one execution <Glyph outcome="ran" /> or fetch <Glyph outcome="fetched" />; the box holds the middle
        half, its line is the median. From {seconds(least)} to {seconds(most)}, logarithmic. {#if t.reuse}
          reuse = "{t.reuse}".{/if}
      </p>
    </section>
  {/if}

  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
    {#if why.length > 0}
      <section class="sheet" aria-label="Why it ran">
        <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Why it ran, by week</h2>
        {#each why as [reason, n] (reason)}
          <div class="grid grid-cols-[104px_1fr_52px] items-center gap-x-3 border-t border-hair px-4.5 py-1">
            <span title={reasons[reason]}>{reason}</span>
            <svg width="100%" height="20" role="img" aria-label="{reason} by week: {byWeek(reason).join(', ')}">
              {#each byWeek(reason) as k, i (i)}<rect
                  x="{(i / weekly.length) * 100}%"
                  y={19 - (k / mostWhy) * 18}
                  width="{Math.max(0.6, 88 / weekly.length)}%"
                  height={(k / mostWhy) * 18}
                  fill="var(--ran)"
                />{/each}
            </svg>
            <span class="text-right">{many(n)}</span>
          </div>
        {/each}
        {#if weekly.length > 1}<div class="flex justify-between border-t border-hair px-4.5 py-1 small">
            <span>from the week of {dayOf(new Date(weekly[0]))}</span><span
              >to {dayOf(new Date(weekly[weekly.length - 1]))}</span
            >
          </div>{/if}
      </section>
    {/if}
    {#if t.causes.length > 0}
      <section class="sheet" aria-label="Files that made it run again">
        <h2 class="px-4.5 pt-3 text-base font-semibold">Files that made it run again</h2>
        <Causes causes={t.causes} />
      </section>
    {/if}
    {#if t.unstable.length > 0}
      <section class="sheet" aria-label="Keys that did not agree">
        <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Executions with the same key that did not agree</h2>
        {#each t.unstable as u (u.key)}
          <div class="border-t border-hair px-4.5 py-1.5">
            <code title={u.key}>{u.key.slice(0, 8)}…</code>
            {#if u.failed > 0}: {counted(u.failed, "time")}
              <a href={p("/runs/:id", { params: { id: u.failed_run } }) + `?task=${encodeURIComponent(t.task)}`}
                >failed</a
              >, {counted(u.passed, "time")}
              <a href={p("/runs/:id", { params: { id: u.passed_run } }) + `?task=${encodeURIComponent(t.task)}`}
                >passed</a
              >{/if}
            {#if u.listings > 1}: {u.listings} different outputs,
              <a
                href={p("/runs/:id", { params: { id: u.passed_run } }) +
                  `?task=${encodeURIComponent(t.task)}&tab=compare&with=${u.other_run}`}>compare them</a
              >{/if}
            <span class="small"><time title={exact(u.at)}>{when(u.at)}</time></span>
            {#if u.tests.length > 0}<div class="small">tests: {u.tests.join(", ")}</div>{/if}
          </div>
        {/each}
      </section>
    {/if}
    {#if t.tests.length > 0}
      <section class="sheet" aria-label="Tests that failed">
        <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Tests that failed</h2>
        {#each t.tests as x (x.name)}
          <div class="border-t border-hair px-4.5 py-1.5">
            <code>{x.name}</code>
            <span class="small"
              >failed {counted(x.failed, "time")} of {x.passed + x.failed},
              <a href={p("/runs/:id", { params: { id: x.last_run } }) + `?task=${encodeURIComponent(t.task)}&tab=tests`}
                >last {when(x.last)}</a
              ></span
            >
            {#if x.message}<div class="truncate small">{x.message.split("\n")[0]}</div>{/if}
          </div>
        {/each}
      </section>
    {/if}
    {#if t.declaration}
      <section class="sheet px-4.5 py-3" aria-label="Declaration">
        <h2 class="text-base font-semibold">Declaration</h2>
        <pre
          class="mt-1 rounded-control border border-hair bg-paper px-2.5 py-1.5 text-[12px] break-words whitespace-pre-wrap"><code
            >{t.command}</code
          ></pre>
        {#each [{ name: "Depends on", list: t.declaration.dependencies }, { name: "Needed by", list: t.declaration.dependents }] as g (g.name)}
          {#if g.list.length > 0}<p class="mt-1.5">
              <span class="small">{g.name}</span>
              {#each g.list.slice(0, 30) as d (d)}<a
                  class="mr-2.5 inline-block"
                  href={p("/tasks/:task", { params: { task: d } })}><code>{d}</code></a
                >{/each}
              {#if g.list.length > 30}<span class="small">and {g.list.length - 30} more</span>{/if}
            </p>{/if}
        {/each}
        <p class="mt-1.5 small">
          {t.declaration.isolation}; probes are {t.declaration.has_probes ? "" : "not "}declared; writes are {t
            .declaration.has_writes
            ? ""
            : "not "}declared
        </p>
      </section>
    {/if}
  </div>
{/if}
