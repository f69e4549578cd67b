<script lang="ts">
  import { runLog, type Log, type TaskRecord } from "./api";
  import Glyph from "./Glyph.svelte";
  import { p } from "./routes";
  import { session } from "./session.svelte";
  import { bytes, exact, reasons, seconds, when } from "./words";

  // One task of a run: its outcome and reason, who made its outputs, and its log.
  let { run, record }: { run: string; record: TaskRecord } = $props();
  let log = $state.raw<Log | null>(null);
  let trouble = $state("");

  $effect(() => {
    const { task, log: digest } = record;
    log = null;
    trouble = "";
    if (!digest) return;
    let current = true;
    runLog(session.repo, run, task).then(
      (l) => current && (log = l),
      (e: Error) => current && (trouble = e.message),
    );
    return () => (current = false);
  });

  const sentence = $derived.by(() => {
    const r = record;
    switch (r.outcome) {
      case "ran":
        return `Ran because ${reasons[r.reason ?? ""] ?? r.reason}.`;
      case "failed":
        return `Failed: ${r.message || "the reason was not recorded"}.`;
      case "current":
        return "Its outputs were on the disk and right.";
      case "cached":
        return "The cache had its result; no file had to be transferred.";
      case "restored":
        return "Restored from the cache of the machine that ran this.";
      case "fetched":
        return "Fetched from the shared cache.";
      case "blocked":
        return `Blocked: ${r.message || "a dependency failed"}.`;
      case "stopped":
        return "Stopped when the run was interrupted.";
    }
    return "Never started.";
  });
</script>

<div class="px-4.5 py-3.5">
  <h2 class="flex items-center gap-2 font-mono text-sm font-semibold break-all">
    <Glyph outcome={record.outcome} />{record.task}
  </h2>
  <p class="mt-1 mb-2.5 text-soft">{sentence}</p>
  <dl
    class="[&>div]:grid [&>div]:grid-cols-[84px_minmax(0,1fr)] [&>div]:gap-2 [&>div]:border-t [&>div]:border-hair [&>div]:py-1.5 [&_dt]:text-soft"
  >
    {#if record.reason && record.detail?.length}
      <div>
        <dt>{record.reason}</dt>
        <dd>
          {#each record.detail as d (d)}<code class="block break-all">{d}</code>{/each}
        </dd>
      </div>
    {/if}
    {#if record.message && record.outcome !== "failed" && record.outcome !== "blocked"}<div>
        <dt>note</dt>
        <dd>{record.message}</dd>
      </div>{/if}
    {#if record.made_by}
      <div>
        <dt>built by</dt>
        <dd>
          {record.made_by.name} at {record.made_by.place}, on {record.made_by.host}<br />
          <a href={p("/runs/:id", { params: { id: record.made_by.run } })}
            ><time title={exact(record.made_by.at)}>{when(record.made_by.at)}</time>, that run</a
          >
        </dd>
      </div>
    {/if}
    <div>
      <dt>took</dt>
      <dd>{seconds(record.seconds)}</dd>
    </div>
    {#if Math.abs(record.saved_seconds) >= 0.05}<div>
        <dt>saved</dt>
        <dd class="text-saved">{seconds(record.saved_seconds)}</dd>
      </div>{/if}
    {#if record.bytes_in > 0}<div>
        <dt>fetched</dt>
        <dd>{bytes(record.bytes_in)} in <span class="text-cost">{seconds(record.cost_seconds)}</span></dd>
      </div>{/if}
    {#if record.key}<div>
        <dt>key</dt>
        <dd>
          <code title={record.key}>{record.key.slice(0, 4)} {record.key.slice(4, 8)} … {record.key.slice(-4)}</code>
        </dd>
      </div>{/if}
    {#if record.dependencies?.length}<div>
        <dt>depends on</dt>
        <dd>
          {#each record.dependencies as t (t)}<code class="block break-all">{t}</code>{/each}
        </dd>
      </div>{/if}
  </dl>
  <div class="border-t border-hair pt-2">
    {#if log && log.lines.length > 0}
      {#if log.total > log.lines.length}<p class="small">the last {log.lines.length} of {log.total} lines</p>{/if}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre
        class="max-h-96 overflow-auto font-mono text-[12px] leading-[1.5] text-soft"
        tabindex="0"
        aria-label="Log of {record.task}">{#each log.lines as l, i (i)}<span
            class="inline-block w-14 shrink-0 pr-2 text-right text-faint select-none">{l.at.toFixed(1)}</span
          >{l.text + "\n"}{/each}</pre>
    {:else if log}<p class="small">The task printed nothing.</p>
    {:else if trouble}<p class="small">The log could not be loaded: {trouble}</p>
    {:else if record.log}<p class="small" aria-busy="true">loading the log…</p>
    {:else}<p class="small">There is no log.</p>{/if}
  </div>
</div>
