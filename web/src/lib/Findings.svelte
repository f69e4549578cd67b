<script lang="ts">
  import type { Finding } from "./api";
  import { p } from "./routes";
  import { advices, seconds } from "./words";

  // Advice, each piece with its evidence and the line to change.
  let { findings, named = true }: { findings: Finding[]; named?: boolean } = $props();

  // A name stays as it is, also where it begins a sentence.
  const sentence = (s: string) => (/^\S*[@/]/.test(s) ? s : s[0].toUpperCase() + s.slice(1));
</script>

{#each findings as f, i (i)}
  <article class="border-t border-hair px-4.5 py-3 first:border-t-0">
    <div class="flex flex-wrap items-baseline gap-x-3">
      <h3 class="font-semibold">
        {#if named}<a class="mr-1 text-ink" href={p("/tasks/:task", { params: { task: f.task } })}
            ><code class="text-[13.5px]">{f.task}</code>:</a
          >{/if}{f.kind.replaceAll("-", " ")}{f.place ? `, at ${f.place}` : ""}
      </h3>
      {#if f.seconds_per_week >= 1}<span class="ml-auto text-cost">{seconds(f.seconds_per_week)} a week</span>{/if}
    </div>
    <p class="mt-0.5">{sentence(f.says)}.</p>
    {#each f.evidence as e (e)}<p class="small">{sentence(e)}.</p>{/each}
    {#if f.runs.length > 0}<p class="small">
        Runs that show it:
        {#each [...new Set(f.runs.filter(Boolean))].slice(0, 6) as r, n (r)}<a
            class="mr-2"
            href={p("/runs/:id", { params: { id: r } }) + `?task=${encodeURIComponent(f.task)}`}>{n + 1}</a
          >{/each}
      </p>{/if}
    <p class="mt-1">
      <span class="text-soft">To do:</span>
      {f.change}{#if f.at}<span class="text-soft">, in</span> <code class="select-all">{f.at}</code>{/if}
    </p>
    <p class="sr-only">{advices[f.kind] ?? ""}</p>
  </article>
{/each}
