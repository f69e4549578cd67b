<script lang="ts">
  import type { Ingredients } from "./api";
  import { p } from "./routes";
  import { counted, many } from "./words";

  // Everything that a key was computed from.
  let { made }: { made: Ingredients | null } = $props();
  let text = $state("");
  const files = $derived((made?.files ?? []).filter((f) => f.name.toLowerCase().includes(text.toLowerCase())));
  const short = (d: string) => `${d.slice(0, 8)}…`;
</script>

{#snippet list(name: string, rows: { name: string; value: string }[])}
  {#if rows.length > 0}
    <h3 class="mt-2 small">{name}</h3>
    {#each rows as r (r.name)}
      {@const lines = r.value.split("\n")}
      <div class="flex gap-2 border-t border-hair py-0.5">
        <code class="break-all">{r.name}</code><span class="ml-auto text-right break-all small"
          >{lines.length > 1 ? counted(lines.length, "line") : r.value}</span
        >
      </div>
      {#if lines.length > 1}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre
          class="mb-1 max-h-40 overflow-auto rounded-control border border-hair bg-paper px-2 py-1 text-[12px] leading-[17px]"
          tabindex="0"
          role="group"
          aria-label="Output of {r.name}">{r.value}</pre>
      {/if}
    {/each}
  {/if}
{/snippet}

{#if !made}
  <p class="small">
    The service does not have the ingredients of this result: it was not shared, or it was removed from the cache. On
    the machine that ran it, <code>grayloft why</code> knows them.
  </p>
{:else}
  <h3 class="small">Command, in <code>{made.dir}</code></h3>
  <pre
    class="mt-0.5 overflow-x-auto rounded-control border border-hair bg-paper px-2.5 py-1.5 text-[12px]"><!-- svelte-ignore a11y_no_noninteractive_tabindex --><code
      tabindex="0"
      role="group"
      aria-label="Command"
      >{made.command.map((w) => (/[\s"']/.test(w) ? JSON.stringify(w) : w)).join(" ")}{made.args.length
        ? ` ${made.args.join(" ")}`
        : ""}</code
    ></pre>
  <p class="mt-1 small">
    {made.isolation}{made.platform ? `, on ${made.platform}` : ", on any platform"}; writes
    {made.writes.length ? made.writes.join(", ") : "nothing"}
  </p>
  {@render list("Settings", made.settings)}
  {@render list("Environment: whether each is set", made.env)}
  {@render list("Probes", made.probes)}
  {#if made.dependencies.length > 0}
    <h3 class="mt-2 small">Dependencies, with the digests of their listings</h3>
    {#each made.dependencies as d (d.name)}<div class="flex gap-2 border-t border-hair py-0.5">
        <a href={p("/tasks/:task", { params: { task: d.name } })}><code class="break-all">{d.name}</code></a>
        <code class="ml-auto small" title={d.value}>{short(d.value)}</code>
      </div>{/each}
  {/if}
  <h3 class="mt-2 flex items-center gap-2 small">
    {counted(made.file_count, "input file")}
    {#if made.files.length > 12}<input
        type="search"
        class="ml-auto min-w-0 rounded-control border border-line bg-paper px-2 py-0.5"
        placeholder="filter"
        aria-label="Filter the input files"
        bind:value={text}
      />{/if}
  </h3>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="max-h-80 overflow-auto" tabindex="0" role="region" aria-label="Input files">
    {#each files as f (f.name)}<div class="flex gap-2 border-t border-hair py-0.5">
        <code class="break-all">{f.name}</code>
        <code class="ml-auto small" title={f.value}>{short(f.value)}</code>
      </div>{/each}
  </div>
  {#if made.files.length < made.file_count}<p class="small">
      and {many(made.file_count - made.files.length)} more
    </p>{/if}
{/if}
