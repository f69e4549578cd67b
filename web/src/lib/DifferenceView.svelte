<script lang="ts">
  import { untrack } from "svelte";
  import { difference, runs, type Difference, type RunRow } from "./api";
  import { param, setParam } from "./address";
  import { Loader } from "./load.svelte";
  import { session } from "./session.svelte";
  import { counted, when } from "./words";

  // What sets a task of this run apart from the same task of another run.
  let { run, task, compared }: { run: string; task: string; compared: string } = $props();
  const others = new Loader<RunRow[]>();
  const found = new Loader<Difference>();
  const other = $derived(param("with") || compared || others.data?.find((r) => r.id !== run)?.id || "");
  const askOthers = async () =>
    (await runs(session.repo, { days: 365, task, limit: 60 })).runs.filter((r) => r.id !== run);

  $effect(() => {
    void task;
    untrack(() => others.ask(askOthers));
  });
  $effect(() => {
    const earlier = other;
    if (!earlier) return;
    void [run, task];
    untrack(() => found.ask(() => difference(session.repo, run, task, earlier), true));
  });
  const name = (r: RunRow) => `${when(r.started)}, ${r.name} at ${r.place}${r.branch ? ` on ${r.branch}` : ""}`;
  const short = (v: string) => (/^[0-9a-f]{64}$/.test(v) ? `${v.slice(0, 8)}…` : v);
</script>

{#snippet rows(list: Difference["changes"])}
  {#each list as c (c.reason + c.what)}
    <div class="border-t border-hair py-1">
      <div class="flex flex-wrap gap-x-2">
        <span class="small w-20 shrink-0">{c.reason}</span>
        <code class="min-w-0 flex-1 break-all">{c.what || "(names are not known)"}</code>
        <span class="small">{c.how}</span>
      </div>
      {#if c.diff}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre
          class="mt-1 max-h-72 overflow-auto rounded-control border border-hair bg-paper px-2 py-1 text-[12px] leading-[17px]"
          tabindex="0"
          role="group"
          aria-label="Changed lines of {c.what}">{#each c.diff.split("\n").slice(2) as l, i (i)}<span
              class="block {l.startsWith('+') ? 'text-saved' : l.startsWith('-') ? 'text-failed' : 'text-soft'}"
              >{l || " "}</span
            >{/each}</pre>
      {:else if c.before || c.after}
        <div class="small break-all">{short(c.before) || "nothing"} → {short(c.after) || "nothing"}</div>
      {/if}
    </div>
  {/each}
{/snippet}

<label class="flex items-center gap-2">
  <span class="small">with</span>
  <select
    class="min-w-0 flex-1 rounded-control border border-line bg-paper px-2 py-0.5"
    value={other}
    aria-label="Run to compare with"
    onchange={(e) => setParam("with", e.currentTarget.value)}
  >
    {#if other && !others.data?.some((r) => r.id === other)}<option value={other}>the run it was compared with</option
      >{/if}
    {#each others.data ?? [] as r (r.id)}<option value={r.id}>{name(r)}</option>{/each}
  </select>
</label>
{#if others.data && !other}
  <p class="mt-2 small">No other run of this task is recorded.</p>
{:else if found.trouble}
  <p class="mt-2 small">The comparison could not be made: {found.trouble}</p>
{:else if found.data}
  {@const d = found.data}
  <p class="mt-2 text-soft">
    {#if !d.known}The service does not have the ingredients of both: only outputs are compared.
    {:else if d.changes.length === 0}Both have the same inputs.
    {:else}{counted(d.changes.length, "input differs", "inputs differ")}.{/if}
    {d.outputs.length === 0
      ? "No output is known to differ."
      : `${counted(d.outputs.length, "output differs", "outputs differ")}.`}
  </p>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="mt-1 max-h-[520px] overflow-auto" tabindex="0" role="region" aria-label="Differences">
    {@render rows(d.changes)}
    {#if d.outputs.length > 0}<h3 class="mt-2 small">Outputs</h3>
      {@render rows(d.outputs)}{/if}
  </div>
{:else if other}
  <p class="mt-2 small" aria-busy="true">comparing…</p>
{/if}
