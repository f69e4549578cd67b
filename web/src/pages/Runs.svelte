<script lang="ts">
  import { ToggleGroup } from "bits-ui";
  import { searchParams } from "sv-router";
  import { balance as askBalance, follow, runs as askRuns, type Balance as BalanceData, type RunRow } from "../lib/api";
  import Balance from "../lib/Balance.svelte";
  import Ledger from "../lib/Ledger.svelte";
  import Notice from "../lib/Notice.svelte";
  import { session } from "../lib/session.svelte";
  import { counted, seconds } from "../lib/words";

  const spans = [2, 14, 90];
  const most = 2000; // rows; older ones are shown for a longer time span
  const days = $derived(spans.includes(Number(searchParams.get("days"))) ? Number(searchParams.get("days")) : 14);

  let rows = $state.raw<RunRow[]>([]);
  let sums = $state.raw<BalanceData | null>(null);
  let more = $state(false);
  let trouble = $state("");
  let asked = 0;

  async function load(span: number) {
    const mine = ++asked;
    trouble = "";
    try {
      const [b, first] = await Promise.all([
        askBalance(session.repo, span),
        askRuns(session.repo, { days: span, limit: 500 }),
      ]);
      let list = first.runs;
      let next = first.next;
      while (next && list.length < most && mine === asked) {
        const page = await askRuns(session.repo, { days: span, limit: 500, before: next });
        list = [...list, ...page.runs];
        next = page.next;
      }
      if (mine !== asked) return;
      sums = b;
      rows = list;
      more = Boolean(next);
    } catch (e) {
      if (mine === asked) trouble = (e as Error).message;
    }
  }

  $effect(() => void load(days));
  // Changes are loaded again, at most every 400 ms.
  $effect(() => {
    const span = days;
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const stop = follow(session.repo, () => {
      waiting ??= setTimeout(() => {
        waiting = undefined;
        load(span);
      }, 400);
    });
    return () => {
      stop();
      clearTimeout(waiting);
    };
  });
  $effect(() => {
    document.title = `Runs · ${session.repo} · Gray Loft`;
  });
</script>

<div class="mb-4 flex flex-wrap items-end justify-between gap-x-5 gap-y-3">
  <div>
    <h1 class="text-[21px] leading-tight font-semibold tracking-tight">
      {#if sums}
        {counted(sums.runs, "run")} saved <span class="text-saved">{seconds(sums.saved_seconds)}</span> of work; sharing
        cost
        <span class="text-cost">{seconds(sums.cost_seconds)}</span>
      {:else}Runs{/if}
    </h1>
    <div class="mt-0.5 text-soft">Last {days} days, all places, all shelves</div>
  </div>
  <ToggleGroup.Root
    type="single"
    value={String(days)}
    onValueChange={(v) => v && searchParams.set("days", v)}
    class="flex overflow-hidden rounded-[7px] border border-line bg-sheet"
    aria-label="How far back"
  >
    {#each spans as span (span)}
      <ToggleGroup.Item
        value={String(span)}
        class="border-r border-line px-3 py-1 text-soft last:border-0 data-[state=on]:bg-wash data-[state=on]:font-semibold data-[state=on]:text-copper"
      >
        {span} days
      </ToggleGroup.Item>
    {/each}
  </ToggleGroup.Root>
</div>

{#if trouble}
  <div class="mb-4">
    <Notice title="The runs could not be loaded" text={trouble} action="Try again" onaction={() => load(days)} />
  </div>
{/if}
{#if sums && rows.length === 0}
  <Notice
    title="No runs in these {days} days"
    text="A run appears here when it starts, if its client knows this service and has a token:"
    command={`export GRAYLOFT_SERVICE=${location.origin} GRAYLOFT_TOKEN=…\ngrayloft run build test`}
  />
{:else if sums}
  <Balance balance={sums} />
  <Ledger {rows} {more} />
{:else if !trouble}
  <div class="sheet h-64 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading the runs"></div>
  <div class="sheet mt-4.5 h-96 animate-pulse motion-reduce:animate-none"></div>
{/if}
