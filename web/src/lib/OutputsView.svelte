<script lang="ts">
  import { blobAddress, type OutputRow } from "./api";
  import { session } from "./session.svelte";
  import { bytes, counted, many } from "./words";

  // The outputs of a task, to download.
  type Props = { rows: OutputRow[]; total: number; listing: string };
  let { rows, total, listing }: Props = $props();
  const sum = $derived(rows.reduce((n, r) => n + r.size, 0));
</script>

{#if total === 0}
  <p class="small">
    {listing
      ? "It has no outputs, or the service no longer has their list."
      : "There is no list of outputs: it did not finish."}
  </p>
{:else}
  <p class="small">{counted(total, "output")}, {bytes(sum)}</p>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="mt-1 max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Outputs">
    {#each rows as r (r.path)}
      <div class="flex items-baseline gap-2.5 border-t border-hair py-0.5">
        {#if r.stored}<a
            href={blobAddress(session.repo, r.digest)}
            download={r.path.split("/").pop()}
            title="{r.digest}: download"><code class="break-all">{r.path}</code></a
          >{:else}<code class="break-all">{r.path}</code>{/if}
        <span class="ml-auto text-right whitespace-nowrap small"
          >{r.kind === "l" ? "link" : r.kind === "d" ? "empty directory" : bytes(r.size)}{r.stored || !r.digest
            ? ""
            : ", not stored"}</span
        >
      </div>
    {/each}
  </div>
  {#if rows.length < total}<p class="small">and {many(total - rows.length)} more</p>{/if}
{/if}
