<script lang="ts">
  import type { CauseRow } from "./api";
  import { many, percent, seconds } from "./words";

  // The files that made tasks run again, and how often the outputs stayed the same.
  let { causes, tasks = false }: { causes: CauseRow[]; tasks?: boolean } = $props();
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Files that cause reruns">
  <table class="w-full border-collapse whitespace-nowrap">
    <thead class="text-[12.5px] text-soft">
      <tr
        class="[&>th]:sticky [&>th]:top-0 [&>th]:bg-sheet [&>th]:px-3 [&>th]:py-1.5 [&>th]:text-right [&>th]:font-medium"
      >
        <th class="pl-4.5! text-left!">File or directory</th><th>Reruns</th><th>Same outputs</th>{#if tasks}<th
            class="max-sm:hidden">Tasks</th
          >{/if}<th class="max-sm:hidden">Time</th>
      </tr>
    </thead>
    <tbody>
      {#each causes as c (c.path)}
        <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1 [&>td]:text-right">
          <td class="max-w-72 truncate pl-4.5! text-left!" title={c.path}><code>{c.path}</code></td>
          <td>{many(c.reruns)}</td>
          <td class={c.judged >= 10 && c.same_outputs / c.judged >= 0.9 ? "font-semibold text-cost" : ""}
            >{c.judged > 0 ? percent(c.same_outputs / c.judged) : "no outputs"}</td
          >
          {#if tasks}<td class="max-sm:hidden">{c.tasks}</td>{/if}
          <td class="max-sm:hidden">{seconds(c.seconds)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
