<script lang="ts">
  import { untrack } from "svelte";
  import { follow, reportAddress, run as ask, type RunDetail, type TaskRecord } from "../lib/api";
  import { param, setParam } from "../lib/address";
  import Glyph from "../lib/Glyph.svelte";
  import Legend from "../lib/Legend.svelte";
  import LogView from "../lib/LogView.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { navigate, p, route } from "../lib/routes";
  import { rowKeys } from "../lib/rows";
  import { session } from "../lib/session.svelte";
  import TaskPane from "../lib/TaskPane.svelte";
  import Timeline from "../lib/Timeline.svelte";
  import { path, together } from "../lib/timeline";
  import { bytes, counted, exact, outcomes, reasons, seconds, speed, when } from "../lib/words";

  const id = $derived(String(route.params.id ?? ""));
  const loader = new Loader<RunDetail>();
  const detail = $derived(loader.data);
  const missing = $derived(loader.status === 404 && !loader.data);
  const trouble = $derived(loader.trouble);
  let now = $state(0);
  let growth = $state(0); // changes whenever a log grew
  const load = (wanted: string) => loader.ask(() => ask(session.repo, wanted));

  $effect(() => {
    const wanted = id;
    untrack(() => {
      loader.status = 0;
      loader.ask(() => ask(session.repo, wanted), true);
    });
    return follow(
      session.repo,
      (ids) => {
        if (!ids || ids.has(wanted)) loader.refresh(() => ask(session.repo, wanted));
      },
      (grew) => {
        if (!grew || grew === wanted) growth++;
      },
    );
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

  // The other parts of a run of several machines.
  const others = new Loader<RunDetail[]>();
  $effect(() => {
    const ids = (detail?.members ?? []).map((m) => m.id);
    void detail;
    if (ids.length > 1) untrack(() => others.refresh(() => Promise.all(ids.map((x) => ask(session.repo, x)))));
  });
  const whole = $derived(
    detail?.members && detail.members.length > 1 && others.data?.some((m) => m.id === detail.id)
      ? together(others.data)
      : undefined,
  );

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
  const all = $derived(param("all") === "yes");
  const only = $derived(param("only"));
  const records = $derived(
    [...(detail?.records ?? [])].sort((a, b) => weight[a.outcome] - weight[b.outcome] || b.seconds - a.seconds),
  );
  const saving = $derived(records.filter((r) => ["cached", "restored", "fetched"].includes(r.outcome)));
  const loud = $derived(records.filter((r) => !quiet.includes(r.outcome)));
  const shown = $derived(
    only === "reused"
      ? [...saving].sort((a, b) => b.saved_seconds - a.saved_seconds)
      : all || loud.length === 0
        ? records
        : loud,
  );
  const left = $derived(
    outcomes.filter((o) => quiet.includes(o) && detail?.totals[o]).map((o) => `${detail?.totals[o]} ${o}`),
  );
  const picked = $derived(param("task"));
  const starts = $derived(detail?.starts ?? []);
  const running = $derived(
    starts.find((s) => s.task === picked) ?? (records.some((r) => r.task === picked) ? undefined : starts[0]),
  );
  const record = $derived(running ? undefined : (records.find((r) => r.task === picked) ?? shown[0]));
  const longest = $derived(
    path(detail?.records ?? []).reduce<TaskRecord | undefined>(
      (m, r) => (!m || r.seconds > m.seconds ? r : m),
      undefined,
    ),
  );

  const pick = (task: string) => setParam("task", task);
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
    rowKeys(e);
    const row = document.activeElement as HTMLElement | null;
    if (row?.dataset.row && (e.key === "ArrowDown" || e.key === "ArrowUp")) {
      const n = Number(row.dataset.row);
      pick((shown[n] ?? starts[n - shown.length]).task);
    }
  }
  const usedReasons = $derived([...new Set(shown.map((r) => r.reason).filter((r): r is string => !!r))]);
</script>

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
    <h1 class="text-[21px] leading-tight font-semibold tracking-tight break-words">{title}</h1>
    <div class="mt-0.5 text-soft">
      {detail.name}{#if detail.branch}&nbsp;on <code>{detail.branch}</code>{/if}{#if detail.commit}&nbsp;at <code
          >{detail.commit.slice(0, 7)}</code
        >{/if}
      · {detail.place} · <time datetime={detail.started} title={exact(detail.started)}>{when(detail.started)}</time>
      {#if detail.shelf}· shelf <code>{detail.shelf}</code>{/if}
      {#if detail.running}· <span class="inline-flex items-center gap-1.5 text-ink"
          ><Glyph outcome="running" />running</span
        >
      {:else if !detail.finished}· lost: its client stopped reporting
      {:else if detail.interrupted}· interrupted{/if}
    </div>
  </div>

  <section class="sheet" aria-label="Summary of the run">
    <div class="flex flex-wrap items-center gap-x-9 gap-y-3 border-b border-hair px-4.5 py-3.5">
      {#each [{ name: "Took", text: detail.running ? seconds(now) : seconds(detail.seconds), tint: "" }, { name: "Saved", text: seconds(detail.saved_seconds), tint: "text-saved" }, { name: "Sharing cost", text: seconds(detail.cost_seconds), tint: "text-cost" }, { name: "Transferred", text: `${bytes(detail.bytes_in)} in, ${bytes(detail.bytes_out)} out`, tint: "" }, ...(detail.bytes_in > 0 && detail.fetch_seconds > 0 ? [{ name: "Speed", text: speed(detail.bytes_in, detail.fetch_seconds), tint: "" }] : [])] as fact (fact.name)}
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
    {#if detail.members && detail.members.length > 1}
      <p class="border-b border-hair px-4.5 py-2 text-soft" data-members>
        One run of {detail.members.length} machines, <code>{detail.join}</code>:
        {#each detail.members as m, i (m.id)}{i > 0 ? ", " : ""}{#if m.id === detail.id}<strong
              >{m.place || m.host}</strong
            >{:else}<a href={p("/runs/:id", { params: { id: m.id } })}>{m.place || m.host}</a>{/if}{/each}. The figures
        and tasks are those of the bold one; the timeline has the work of all.
      </p>
    {/if}
    <Timeline run={whole?.run ?? detail} names={whole?.names} {now} {picked} onpick={pick} />
    <div class="flex flex-wrap items-start gap-x-6 gap-y-1 border-t border-hair px-4.5 py-2">
      <div class="min-w-0 flex-1"><Legend critical /></div>
      {#if detail.finished}
        <span class="flex flex-wrap gap-x-3 small"
          >Reports:
          {#each [["html", "page"], ["junit", "JUnit XML"], ["trace", "trace"]] as const as [kind, name] (kind)}
            <a href={reportAddress(session.repo, detail.id, kind)} download>{name}</a>
          {/each}</span
        >
      {/if}
    </div>
  </section>

  <div class="mt-4.5 grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_minmax(372px,34%)]">
    <section class="sheet overflow-x-auto" aria-label="Tasks">
      {#if saving.length > 0}
        <div class="flex flex-wrap items-baseline gap-x-3 border-b border-hair px-4.5 py-2">
          <span
            >{counted(saving.length, "task was", "tasks were")} not executed thanks to the cache, which saved
            <span class="text-saved">{seconds(saving.reduce((n, r) => n + r.saved_seconds, 0))}</span></span
          >
          <button class="text-copper underline" onclick={() => setParam("only", only === "reused" ? "" : "reused")}
            >{only === "reused" ? "show all tasks" : "show only these"}</button
          >
        </div>
      {/if}
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
        <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
        <tbody onkeydown={keys}>
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
              onkeydown={(e) =>
                e.key === "Enter" && e.target === e.currentTarget && (e.stopPropagation(), pick(r.task))}
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
                    href={p("/runs/:id", { params: { id: r.made_by.run } }) + `?task=${encodeURIComponent(r.task)}`}
                    onclick={(e) => e.stopPropagation()}>{r.made_by.name}, {when(r.made_by.at)}</a
                  >{/if}
              </td>
            </tr>
          {/each}
          {#each starts as s, i (s.task)}
            <tr
              data-row={shown.length + i}
              tabindex="0"
              aria-selected={running?.task === s.task}
              class="cursor-pointer border-b border-hair whitespace-nowrap hover:bg-paper focus-visible:outline-offset-[-2px] [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5 {running?.task ===
              s.task
                ? 'bg-wash'
                : ''}"
              onclick={() => pick(s.task)}
              onkeydown={(e) => e.key === "Enter" && (e.stopPropagation(), pick(s.task))}
            >
              <td><code>{s.task}</code></td>
              <td colspan="2"
                ><span class="inline-flex items-center gap-1.5"><Glyph outcome="running" />running</span></td
              >
              <td class="text-right">{seconds(Math.max(0, now - s.at))}</td><td></td><td></td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if only !== "reused" && loud.length > 0 && left.length > 0}
        <button
          class="w-full px-4.5 py-2 text-left small hover:text-ink"
          onclick={() => setParam("all", all ? "" : "yes")}
        >
          {all ? "Leave out" : "And"}
          {left.join(", ")}: {counted(records.length - loud.length, "task")} that needed no work
        </button>
      {/if}
      {#if usedReasons.length > 0}
        <details class="border-t border-hair px-4.5 py-2 small">
          <summary class="cursor-pointer">What the reasons mean</summary>
          {#each usedReasons as r (r)}<div><b class="font-medium text-ink">{r}</b> {reasons[r] ?? ""}</div>{/each}
        </details>
      {/if}
    </section>
    {#if running}<section class="sheet px-4.5 py-3.5" aria-label="The selected task">
        <h2 class="flex items-center gap-2 font-mono text-sm font-semibold break-all">
          <Glyph outcome="running" />{running.task}
        </h2>
        <p class="mt-1 mb-2.5 text-soft">Running for {seconds(Math.max(0, now - running.at))}.</p>
        <LogView run={detail.id} task={running.task} digest="" {growth} />
      </section>{:else if record}<section class="sheet" aria-label="The selected task">
        <TaskPane run={detail.id} {record} />
      </section>{/if}
  </div>
{/if}
