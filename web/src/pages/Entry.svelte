<script lang="ts">
  import { untrack } from "svelte";
  import { entry as ask, type EntryDetail } from "../lib/api";
  import { param } from "../lib/address";
  import Heading from "../lib/Heading.svelte";
  import IngredientsView from "../lib/IngredientsView.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import OutputsView from "../lib/OutputsView.svelte";
  import { navigate, p, route } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import { bytes, exact, seconds, when } from "../lib/words";

  // One entry of the shared cache.
  const key = $derived(String(route.params.key ?? ""));
  const loader = new Loader<EntryDetail>();
  const load = () => ask(session.repo, key, param("shelf") || undefined);
  $effect(() => {
    void [key, param("shelf")];
    untrack(() => loader.ask(load, true));
  });
  const e = $derived(loader.data);
</script>

{#if loader.status === 404 && !e}
  <Notice
    title="The shared cache has no entry for this key"
    text="Its task may not be shared, the result may have stayed on the machine that made it, or it was evicted."
    action="To the cache"
    onaction={() => navigate("/cache")}
  />
{:else if loader.trouble && !e}
  <Notice
    title="The entry could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !e}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else}
  <Heading title={e.task}>
    <a class="text-ink" href={p("/tasks/:task", { params: { task: e.task } })}
      ><code class="text-[19px]">{e.task}</code></a
    >, made by {e.made_by.name} at
    {e.made_by.place} in {seconds(e.seconds)}
    {#snippet about()}
      <time title={exact(e.made_by.at)}>{when(e.made_by.at)}</time> on {e.made_by.host}, in
      <a href={p("/runs/:id", { params: { id: e.made_by.run } }) + `?task=${encodeURIComponent(e.task)}`}>this run</a>;
      on the shelf
      <code>{e.shelf}</code>; {bytes(e.bytes)}; last used {e.last_used}
    {/snippet}
  </Heading>
  <p class="mb-3 small">key <code class="break-all select-all">{e.key}</code></p>
  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
    <section class="sheet px-4.5 py-3.5" aria-label="Built from">
      <h2 class="mb-1 text-base font-semibold">Built from</h2>
      <IngredientsView made={e.ingredients_detail} />
    </section>
    <section class="sheet px-4.5 py-3.5" aria-label="Outputs">
      <h2 class="mb-1 text-base font-semibold">Outputs</h2>
      <OutputsView rows={e.outputs} total={e.total_outputs} listing={e.listing} />
    </section>
  </div>
{/if}
