<script lang="ts">
  import { untrack } from "svelte";
  import { advice as ask, type AdvicePage } from "../lib/api";
  import { numberParam, setParam } from "../lib/address";
  import Causes from "../lib/Causes.svelte";
  import Choice from "../lib/Choice.svelte";
  import Findings from "../lib/Findings.svelte";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { session } from "../lib/session.svelte";
  import { advices, counted, seconds } from "../lib/words";

  const spans = [
    { value: 4, name: "4 weeks" },
    { value: 13, name: "13 weeks" },
    { value: 53, name: "a year" },
  ];
  const weeks = $derived(numberParam("weeks", 13));
  const loader = new Loader<AdvicePage>();
  const load = () => ask(session.repo, weeks);
  $effect(() => {
    void weeks;
    untrack(() => loader.ask(load));
  });
  const page = $derived(loader.data);
  const cost = $derived(
    (page?.findings ?? []).reduce((n, f) => n + (f.kind === "long-pole" ? 0 : f.seconds_per_week), 0),
  );
</script>

<Heading title="Advice">
  {#if page}
    {page.findings.length === 0
      ? "Nothing stands out"
      : `${counted(page.findings.length, "piece")} of advice`}{#if cost >= 1}; what they are about costs <span
        class="text-cost">{seconds(cost)}</span
      > a week{/if}
  {:else}Advice{/if}
  {#snippet about()}{#if page}From {counted(page.runs, "run")} of the last {counted(weeks, "week")}{/if}{/snippet}
  {#snippet controls()}<Choice
      label="Time"
      value={weeks}
      items={spans}
      onchange={(v) => setParam("weeks", v, 13)}
    />{/snippet}
</Heading>

{#if loader.trouble && !page}
  <Notice
    title="The advice could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !page}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else}
  {#if page.findings.length > 0}
    <section class="sheet" aria-label="Findings"><Findings findings={page.findings} /></section>
  {:else}
    <Notice
      title="Nothing is worth changing, as far as the records tell"
      text="Advice needs repetition: at least 5 executions and 5 fetches of a task at one place, or 10 reruns for the same file."
      command="grayloft advise"
    />
  {/if}
  {#if page.causes.length > 0}
    <section class="sheet mt-4.5" aria-label="What makes tasks run again">
      <h2 class="px-4.5 pt-3 text-base font-semibold">Files that cause most reruns</h2>
      <p class="px-4.5 pb-1 small">A directory counts when all files that changed are in it.</p>
      <Causes causes={page.causes} tasks />
    </section>
  {/if}
  <details class="mt-3 px-1 small">
    <summary class="cursor-pointer">Legend</summary>
    {#each Object.entries(advices) as [kind, says] (kind)}<div>
        <b class="font-medium text-ink">{kind.replaceAll("-", " ")}</b>
        {says}
      </div>{/each}
  </details>
{/if}
