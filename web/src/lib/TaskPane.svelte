<script lang="ts">
  import { Tabs } from "bits-ui";
  import { untrack } from "svelte";
  import { runTask, type TaskDetail, type TaskRecord } from "./api";
  import { param, setParam } from "./address";
  import DifferenceView from "./DifferenceView.svelte";
  import Glyph from "./Glyph.svelte";
  import IngredientsView from "./IngredientsView.svelte";
  import { Loader } from "./load.svelte";
  import LogView from "./LogView.svelte";
  import OutputsView from "./OutputsView.svelte";
  import { p } from "./routes";
  import { session } from "./session.svelte";
  import { bytes, counted, exact, reasons, seconds, speed, when } from "./words";

  // One task of a run: its outcome and reason, what it was built from and by whom,
  // its outputs, tests and log, and a comparison with another run.
  let { run, record }: { run: string; record: TaskRecord } = $props();
  const detail = new Loader<TaskDetail>();
  const ask = () => runTask(session.repo, run, record.task);

  let shown = "";
  $effect(() => {
    const id = `${run} ${record.task}`;
    void record.outcome;
    untrack(() => {
      detail.ask(ask, id !== shown);
      shown = id;
    });
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
  const tabs = $derived([
    { id: "log", name: "Log" },
    { id: "inputs", name: "Built from" },
    { id: "outputs", name: "Outputs" },
    ...(record.tests > 0 ? [{ id: "tests", name: `Tests ${record.tests}` }] : []),
    { id: "compare", name: "Compare" },
  ]);
  const tab = $derived(tabs.some((t) => t.id === param("tab")) ? param("tab") : "log");
  const more = $derived(record.changed_count - (record.changed?.length ?? 0));
</script>

<div class="px-4.5 py-3.5">
  <h2 class="flex items-center gap-2 font-mono text-sm font-semibold break-all">
    <Glyph outcome={record.outcome} /><a
      class="text-ink no-underline hover:underline"
      href={p("/tasks/:task", { params: { task: record.task } })}>{record.task}</a
    >
  </h2>
  <p class="mt-1 mb-2.5 text-soft">{sentence}</p>
  <dl
    class="[&_dt]:text-soft [&>div]:grid [&>div]:grid-cols-[92px_minmax(0,1fr)] [&>div]:gap-2 [&>div]:border-t [&>div]:border-hair [&>div]:py-1"
  >
    {#if record.changed?.length}
      <div>
        <dt>{record.reason || "changed"}</dt>
        <dd>
          {#each record.changed.slice(0, 8) as d (d)}<code class="block break-all">{d}</code>{/each}
          {#if record.changed.length > 8 || more > 0}<details class="small">
              <summary class="cursor-pointer">and {record.changed_count - 8} more</summary>
              {#each record.changed.slice(8) as d (d)}<code class="block break-all">{d}</code>{/each}
              {#if more > 0}and {counted(more, "input")} that were not recorded by name{/if}
            </details>{/if}
        </dd>
      </div>
    {:else if record.reason && record.detail?.length}
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
    {#if record.same_outputs !== undefined && record.same_outputs !== null}<div>
        <dt>outputs</dt>
        <dd>
          {record.same_outputs ? "the same as" : "other than"} in
          <a href={p("/runs/:id", { params: { id: record.compared ?? "" } })}>the run it was compared with</a>
        </dd>
      </div>{/if}
    {#if record.made_by}
      <div>
        <dt>built by</dt>
        <dd>
          {record.made_by.name} at {record.made_by.place}, on {record.made_by.host}<br />
          <a href={p("/runs/:id", { params: { id: record.made_by.run } }) + `?task=${encodeURIComponent(record.task)}`}
            ><time title={exact(record.made_by.at)}>{when(record.made_by.at)}</time>, that run</a
          >
        </dd>
      </div>
    {/if}
    <div>
      <dt>took</dt>
      <dd>
        {seconds(record.seconds)}{#if record.run_seconds > 0}<span class="small"
            >: running {seconds(record.run_seconds)}, hashing {seconds(record.hash_seconds)}{record.wait_seconds > 0.05
              ? `, after waiting ${seconds(record.wait_seconds)}`
              : ""}{record.attempt > 1 ? `, attempt ${record.attempt}` : ""}</span
          >{/if}
      </dd>
    </div>
    {#if Math.abs(record.saved_seconds) >= 0.05}<div>
        <dt>saved</dt>
        <dd class="text-saved">{seconds(record.saved_seconds)}</dd>
      </div>{/if}
    {#if record.bytes_in > 0}<div>
        <dt>fetched</dt>
        <dd>
          {bytes(record.bytes_in)} in <span class="text-cost">{seconds(record.fetch_seconds)}</span>, at {speed(
            record.bytes_in,
            record.fetch_seconds,
          )}
        </dd>
      </div>{/if}
    {#if record.bytes_out > 0}<div>
        <dt>uploaded</dt>
        <dd>{bytes(record.bytes_out)}</dd>
      </div>{/if}
    {#if record.key}<div>
        <dt>key</dt>
        <dd>
          <a href={p("/cache/:key", { params: { key: record.key } })} title={record.key}
            ><code>{record.key.slice(0, 4)} {record.key.slice(4, 8)} … {record.key.slice(-4)}</code></a
          >
        </dd>
      </div>{/if}
  </dl>
  <Tabs.Root
    value={tab}
    onValueChange={(v: string) => setParam("tab", v, "log")}
    class="mt-1 border-t border-hair pt-2"
  >
    <Tabs.List class="mb-2 flex flex-wrap gap-x-3.5" aria-label="About {record.task}">
      {#each tabs as t (t.id)}<Tabs.Trigger
          value={t.id}
          class="border-b-2 border-transparent pb-0.5 text-soft data-[state=active]:border-copper data-[state=active]:text-ink"
          >{t.name}</Tabs.Trigger
        >{/each}
    </Tabs.List>
    <Tabs.Content value={tab}>
      {#if tab === "log"}
        {#if record.log}<LogView {run} task={record.task} digest={record.log} />
        {:else}<p class="small">There is no log: it printed nothing, or it did not run.</p>{/if}
      {:else if tab === "compare"}
        <DifferenceView {run} task={record.task} compared={record.compared ?? ""} />
      {:else if detail.trouble && !detail.data}
        <p class="small">This could not be loaded: {detail.trouble}</p>
        <button class="control mt-1" onclick={() => detail.ask(ask)}>Try again</button>
      {:else if !detail.data}
        <p class="small" aria-busy="true">loading…</p>
      {:else if tab === "inputs"}
        <IngredientsView made={detail.data.ingredients} />
      {:else if tab === "outputs"}
        <OutputsView rows={detail.data.outputs} total={detail.data.total_outputs} listing={record.listing} />
      {:else}
        <ul class="max-h-[420px] overflow-auto">
          {#each detail.data.tests as t, i (i)}
            <li class="border-t border-hair py-1">
              <div class="flex gap-2">
                <Glyph outcome={t.result === "failed" ? "failed" : t.result === "skipped" ? "stopped" : "current"} />
                <span class="min-w-0 flex-1 break-words"><code>{t.name}</code></span>
                <span class="small">{t.result}, {seconds(t.seconds)}</span>
              </div>
              {#if t.message}<pre class="ml-5 text-[12px] whitespace-pre-wrap text-soft">{t.message}</pre>{/if}
            </li>
          {/each}
        </ul>
        {#if detail.data.tests.length < record.tests}<p class="small">
            and {record.tests - detail.data.tests.length} more
          </p>{/if}
      {/if}
    </Tabs.Content>
  </Tabs.Root>
</div>
