<script lang="ts">
  import { searchParams } from "sv-router";
  import { Failure, follow, run as ask, type RunDetail, type TaskRecord } from "../lib/api";
  import Glyph from "../lib/Glyph.svelte";
  import Notice from "../lib/Notice.svelte";
  import { navigate, p, route } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import TaskPane from "../lib/TaskPane.svelte";
  import Timeline from "../lib/Timeline.svelte";
  import { path } from "../lib/timeline";
  import { bytes, counted, exact, outcomes, seconds, when } from "../lib/words";

  const id = $derived(String(route.params.id ?? ""));
  let detail = $state.raw<RunDetail | null>(null);
  let trouble = $state("");
  let missing = $state(false);
  let now = $state(0);

  async function load(wanted: string) {
    try {
      const d = await ask(session.repo, wanted);
      if (wanted !== id) return;
      detail = d;
      trouble = "";
    } catch (e) {
      if (wanted !== id) return;
      missing = e instanceof Failure && e.status === 404;
      trouble = (e as Error).message;
    }
  }

  $effect(() => {
    const wanted = id;
    detail = null;
    missing = false;
    load(wanted);
    return follow(session.repo, (changed) => {
      if (!changed || changed === wanted) load(wanted);
    });
  });
  // While it runs, the timeline grows.
  $effect(() => {
    if (!detail?.running) return;
    const started = new Date(detail.started).getTime();
    const tick = () => (now = (Date.now() - started) / 1000);
    tick();
    const timer = setInterval(tick, 500);
    return () => clearInterval(timer);
  });

  const title = $derived(
    detail ? (detail.requested.join(" ") || "picked") + (detail.no_reuse ? " · without reuse" : "") : "",
  );
  $effect(() => {
    document.title = `${title || "Run"} · ${session.repo} · Gray Loft`;
  });

  const weight: Record<string, number> = {
    failed: 0,
    ran: 1,
    stopped: 2,
    blocked: 3,
    fetched: 4,
    restored: 5,
    "not-started": 6,
    cached: 7,
    current: 8,
  };
  const quiet = ["cached", "current", "not-started"];
  const all = $derived(searchParams.get("all") === "yes" || searchParams.get("all") === true);
  const records = $derived(
    [...(detail?.records ?? [])].sort((a, b) => weight[a.outcome] - weight[b.outcome] || b.seconds - a.seconds),
  );
  const loud = $derived(records.filter((r) => !quiet.includes(r.outcome)));
  const shown = $derived(all || loud.length === 0 ? records : loud);
  const left = $derived(
    outcomes.filter((o) => quiet.includes(o) && detail?.totals[o]).map((o) => `${detail?.totals[o]} ${o}`),
  );
  const picked = $derived(String(searchParams.get("task") ?? ""));
  const record = $derived(records.find((r) => r.task === picked) ?? shown[0]);
  const longest = $derived(
    path(detail?.records ?? []).reduce<TaskRecord | undefined>(
      (m, r) => (!m || r.seconds > m.seconds ? r : m),
      undefined,
    ),
  );

  const pick = (task: string) => searchParams.set("task", task, { replace: true });
  const why = (r: TaskRecord) => {
    const d = r.detail ?? [];
    if (r.outcome === "failed") return r.message || "";
    if (r.outcome === "blocked") return r.message || "";
    if (!r.reason) return "";
    return d.length === 0
      ? r.reason
      : d.length === 1
        ? `${r.reason}: ${d[0]}`
        : `${r.reason}: ${d[0]} and ${d.length - 1} more`;
  };

  function keys(e: KeyboardEvent) {
    const row = (e.target as HTMLElement).closest<HTMLElement>("[data-row]");
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (e.key === "Escape" && !(e.target as HTMLElement).closest("input")) navigate("/");
    if (!row || !step) return;
    e.preventDefault();
    const to = Number(row.dataset.row) + step;
    const next = document.querySelector<HTMLElement>(`[data-row="${to}"]`);
    next?.focus();
    if (next) pick(shown[to].task);
  }
</script>

<svelte:window onkeydown={keys} />

{#if missing}
  <Notice
    title="There is no such run"
    text="Its record may have expired, or it belongs to another repository."
    action="To the runs"
    onaction={() => navigate("/")}
  />
{:else if trouble && !detail}
  <Notice title="The run could not be loaded" text={trouble} action="Try again" onaction={() => load(id)} />
{:else if !detail}
  <div class="sheet h-72 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading the run"></div>
{:else}
  <div class="mb-4">
    <h1 class="text-[21px] leading-tight font-semibold tracking-tight">{title}</h1>
    <div class="mt-0.5 text-soft">
      {detail.name}{#if detail.branch}&nbsp;on <code>{detail.branch}</code>{/if}{#if detail.commit}&nbsp;at <code
          >{detail.commit.slice(0, 7)}</code
        >{/if}
      · {detail.place} · <time datetime={detail.started} title={exact(detail.started)}>{when(detail.started)}</time>
      {#if detail.shelf}· shelf <code>{detail.shelf}</code>{/if}
      {#if detail.running}· <span class="inline-flex items-center gap-1.5 text-ink"><Glyph outcome="ran" />running</span
        >
      {:else if !detail.finished}· lost: its client stopped reporting
      {:else if detail.interrupted}· interrupted{/if}
    </div>
  </div>

  <section class="sheet" aria-label="Summary of the run">
    <div class="flex flex-wrap items-center gap-x-9 gap-y-3 border-b border-hair px-4.5 py-3.5">
      {#each [{ name: "Took", text: detail.running ? seconds(now) : seconds(detail.seconds), tint: "" }, { name: "Saved", text: seconds(detail.saved_seconds), tint: "text-saved" }, { name: "Sharing cost", text: seconds(detail.cost_seconds), tint: "text-cost" }, { name: "Transferred", text: `${bytes(detail.bytes_in)} in, ${bytes(detail.bytes_out)} out`, tint: "" }] as fact (fact.name)}
        <div>
          <div class="small">{fact.name}</div>
          <div class="text-[19px] font-semibold tracking-tight {fact.tint}">{fact.text}</div>
        </div>
      {/each}
      {#if longest}
        <div>
          <div class="small">Critical path (underlined)</div>
          <div class="text-[19px] font-semibold tracking-tight">{longest.task}, {seconds(longest.seconds)}</div>
        </div>
      {/if}
      <div class="ml-auto flex flex-wrap gap-x-4 gap-y-1 small">
        {#each outcomes as o (o)}{#if detail.totals[o]}<span class="inline-flex items-center gap-1.5"
              ><Glyph outcome={o} />{detail.totals[o]} {o}</span
            >{/if}{/each}
      </div>
    </div>
    <Timeline run={detail} {now} {picked} onpick={pick} />
  </section>

  <div class="mt-4.5 grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_372px]">
    <section class="sheet overflow-x-auto" aria-label="Tasks">
      <table class="w-full border-collapse">
        <thead class="text-left text-[12.5px] text-soft">
          <tr
            class="border-b border-line [&>th]:px-3 [&>th]:py-2 [&>th]:font-medium [&>th:first-child]:pl-4.5 [&>th:last-child]:pr-4.5 max-sm:[&>th]:px-1.5"
          >
            <th>Task</th><th>Outcome</th><th class="max-md:hidden">Why</th><th class="text-right">Took</th><th
              class="text-right max-sm:hidden">Saved</th
            ><th class="max-md:hidden">Built by</th>
          </tr>
        </thead>
        <tbody>
          {#each shown as r, i (r.task)}
            <tr
              data-row={i}
              tabindex="0"
              aria-selected={record?.task === r.task}
              class="cursor-pointer border-b border-hair whitespace-nowrap hover:bg-paper focus-visible:outline-offset-[-2px] [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5 [&>td:last-child]:pr-4.5 max-sm:[&>td]:px-1.5 {record?.task ===
              r.task
                ? 'bg-wash'
                : ''}"
              onclick={() => pick(r.task)}
              onkeydown={(e) => e.key === "Enter" && pick(r.task)}
            >
              <td><code>{r.task}</code></td>
              <td><span class="inline-flex items-center gap-1.5"><Glyph outcome={r.outcome} />{r.outcome}</span></td>
              <td class="small max-w-64 truncate max-md:hidden" title={why(r)}>{why(r)}</td>
              <td class="text-right"
                >{r.outcome === "blocked" || r.outcome === "not-started" ? "" : seconds(r.seconds)}</td
              >
              <td class="text-right text-saved max-sm:hidden"
                >{Math.abs(r.saved_seconds) >= 0.05 ? seconds(r.saved_seconds) : ""}</td
              >
              <td class="small max-w-40 truncate max-md:hidden">
                {#if r.made_by}<a
                    class="no-underline hover:underline"
                    href={p("/runs/:id", { params: { id: r.made_by.run } })}
                    onclick={(e) => e.stopPropagation()}>{r.made_by.name}, {when(r.made_by.at)}</a
                  >{/if}
              </td>
            </tr>
          {/each}
          {#each detail.starts as s (s.task)}
            <tr class="border-b border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
              <td><code>{s.task}</code></td>
              <td colspan="2"><span class="inline-flex items-center gap-1.5"><Glyph outcome="ran" />running</span></td>
              <td class="text-right">{seconds(Math.max(0, now - s.at))}</td><td></td><td></td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if loud.length > 0 && left.length > 0}
        <button
          class="w-full px-4.5 py-2 text-left small hover:text-ink"
          onclick={() =>
            all
              ? searchParams.delete("all", undefined, { replace: true })
              : searchParams.set("all", "yes", { replace: true })}
        >
          {all ? "Leave out" : "And"}
          {left.join(", ")}: {counted(records.length - loud.length, "task")} that needed no work
        </button>
      {/if}
    </section>
    {#if record}<section class="sheet" aria-label="The selected task">
        <TaskPane run={detail.id} {record} />
      </section>{/if}
  </div>
{/if}
