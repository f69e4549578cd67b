<script lang="ts">
  import { midnightsBetween } from "./timeline";
  import type { Balance } from "./api";
  import type { Measure } from "./measures";
  import Strip from "./Strip.svelte";
  import { dayOf, exact, when } from "./words";

  type Props = { balance: Balance; measure: Measure; asTable: boolean; onname: (name: string) => void };
  let { balance, measure, asTable, onname }: Props = $props();
  const since = $derived(new Date(balance.since));
  const until = $derived(new Date(balance.until));
  const points = $derived(balance.groups.flatMap((p) => p.points));
  // What is below the line is drawn larger by a round factor, which is stated, so
  // that it is visible.
  const below = $derived(Math.max(0, ...points.map(measure.below)));
  const most = $derived(measure.share ? 1 : Math.max(1e-9, 2 * below, ...points.map(measure.above)));
  const factor = $derived(below > 0 ? ([1, 2, 5, 10, 20, 50, 100].findLast((f) => below * f <= most / 2) ?? 1) : 1);
  const midnights = $derived(midnightsBetween(since, until));
  let width = $state(600);
  // A label takes about 60 px.
  const labels = $derived(
    midnights.filter((_, i) => i % Math.max(1, Math.ceil((midnights.length * 62) / Math.max(width - 40, 62))) === 0),
  );
  const at = (d: Date) => ((d.getTime() - since.getTime()) / (until.getTime() - since.getTime())) * width;
  const live = $derived(Date.now() - until.getTime() < 3600_000);
</script>

<section class="sheet overflow-hidden" aria-label="{measure.name}, by {balance.by}">
  {#if asTable}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="max-h-[520px] overflow-auto" tabindex="0" role="region" aria-label="Figures by {balance.by}">
      <table class="w-full border-collapse whitespace-nowrap">
        <thead class="text-[12.5px] text-soft">
          <tr class="[&>th]:sticky [&>th]:top-0 [&>th]:bg-sheet [&>th]:px-4.5 [&>th]:py-2 [&>th]:font-medium">
            <th class="text-left">{balance.by}</th><th class="text-left">When</th><th class="text-right">Runs</th>
            <th class="text-right">{measure.name}</th><th><span class="sr-only">Second figure</span></th>
          </tr>
        </thead>
        <tbody>
          {#each balance.groups as g (g.name)}
            {#each g.points as p (p.at)}
              <tr class="border-t border-hair [&>td]:px-4.5 [&>td]:py-1">
                <td>{g.name}</td><td><time datetime={p.at} title={exact(p.at)}>{when(p.at)}</time></td>
                <td class="text-right">{p.runs}</td><td class="text-right">{measure.sayAbove(p)}</td>
                <td class="text-right">{measure.sayBelow(p)}</td>
              </tr>
            {/each}
          {/each}
        </tbody>
      </table>
    </div>
  {:else}
    {#each balance.groups as group (group.name)}
      <Strip
        {group}
        {measure}
        {since}
        {until}
        interval={balance.interval_seconds}
        {most}
        mostBelow={below > 0 ? most / 2 / factor : 0}
        days={midnights.length > 31 ? labels : midnights}
        onname={group.name === "others" ? undefined : () => onname(group.name)}
      />
    {/each}
    <div
      class="grid grid-cols-[minmax(84px,150px)_1fr] gap-x-3 px-4.5 pt-1 pb-2 text-[12.5px] text-faint sm:grid-cols-[150px_1fr_150px]"
    >
      <div></div>
      <div class="relative h-5" bind:clientWidth={width}>
        {#each labels as d (d.getTime())}
          {#if at(d) < width - 60 && at(d) > 24}
            <span class="absolute -translate-x-1/2 whitespace-nowrap" style:left="{at(d)}px">{dayOf(d)}</span>
          {/if}
        {/each}
        <span class="absolute right-0 bg-sheet pl-1">{live ? "now" : dayOf(until)}</span>
      </div>
      <div class="col-span-2 text-right sm:col-span-1">
        {below > 0 && factor > 1 ? `below the line: ${factor} × larger` : ""}
      </div>
    </div>
  {/if}
</section>
