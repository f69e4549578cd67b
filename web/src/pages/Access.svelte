<script lang="ts">
  import { AlertDialog } from "bits-ui";
  import { untrack } from "svelte";
  import {
    audit as askAudit,
    makeToken,
    revokeToken,
    rotateToken,
    tokens as askTokens,
    type AuditPage,
    type TokenRow,
  } from "../lib/api";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { session } from "../lib/session.svelte";
  import { counted, exact, when } from "../lib/words";

  const list = new Loader<TokenRow[]>();
  const log = new Loader<AuditPage["rows"]>();
  let next = $state<number | undefined>();
  const loadTokens = async () => (await askTokens(session.repo)).tokens;
  const loadAudit = async () => {
    const page = await askAudit(session.repo);
    next = page.next;
    return page.rows;
  };
  function load() {
    list.ask(loadTokens);
    log.ask(loadAudit);
  }
  $effect(() => {
    if (session.self?.manage) untrack(load);
  });
  async function older() {
    const page = await askAudit(session.repo, next);
    log.data = [...(log.data ?? []), ...page.rows];
    next = page.next;
  }

  let secret = $state("");
  let secretOf = $state("");
  let trouble = $state("");
  let busy = $state(false);
  let copied = $state(false);
  let name = $state("");
  let writes = $state("");
  let reads = $state("trusted");
  let view = $state(true);
  let manage = $state(false);
  let request = $state(false);
  let serves = $state("");
  let days = $state(90);

  async function change(of: string, act: () => Promise<{ token: string } | unknown>) {
    busy = true;
    trouble = "";
    try {
      const made = await act();
      secret = (made as { token?: string } | undefined)?.token ?? "";
      secretOf = of;
      copied = false;
      load();
      return true;
    } catch (e) {
      trouble = (e as Error).message;
      return false;
    } finally {
      busy = false;
    }
  }
  async function make(e: SubmitEvent) {
    e.preventDefault();
    const of = name.trim();
    const done = await change(of, () =>
      makeToken(session.repo, {
        name: of,
        writes_to: writes.trim(),
        reads_from: reads
          .split(",")
          .map((s) => s.trim())
          .filter(Boolean),
        view,
        manage,
        request,
        serves: serves
          .split(",")
          .map((s) => s.trim())
          .filter(Boolean),
        days: Number(days) || 0,
      }),
    );
    if (done) name = writes = serves = "";
  }
  let asking = $state<{ word: "Rotate" | "Revoke"; token: TokenRow } | null>(null);
  function confirm() {
    if (!asking) return;
    const { word, token: t } = asking;
    asking = null;
    change(t.name, () => (word === "Rotate" ? rotateToken(session.repo, t.id) : revokeToken(session.repo, t.id)));
  }
  const rights = (t: TokenRow) =>
    [
      t.view ? "view" : "",
      t.request ? "request" : "",
      t.serves.length ? `serve ${t.serves.join(", ")}` : "",
      t.manage ? "manage" : "",
    ]
      .filter(Boolean)
      .join(", ") || "–";
  const field = "w-full min-w-0 rounded-control border border-line bg-paper px-2.5 py-1";
</script>

{#if !session.self?.manage}
  <Heading title="Access">Your token, {session.self?.name}, may not manage access</Heading>
  <Notice
    title="This page needs a token with the right to manage"
    text="Your token reads from {session.self?.reads_from.join(', ') || 'no shelf'} and writes to {session.self
      ?.writes_to || 'no shelf'}."
    command="grayloftd token new --repo {session.repo} --name YOU --view --manage"
  />
{:else}
  <Heading title="Access">
    {list.data ? `${counted(list.data.length, "token")} can reach this repository` : "Access"}
    {#snippet about()}Everyone reads the trusted shelf; CI on protected branches writes it. A person writes to their
      own.{/snippet}
  </Heading>

  {#if secret}
    <div class="sheet mb-4.5 border-copper px-4.5 py-3.5" role="status">
      <p class="font-semibold">The secret of {secretOf}. It is shown only now.</p>
      <div class="mt-1.5 flex flex-wrap items-center gap-2">
        <code class="rounded-control border border-line bg-paper px-2.5 py-1 break-all select-all" data-secret
          >{secret}</code
        >
        <button
          class="control"
          onclick={async () => {
            await navigator.clipboard.writeText(secret);
            copied = true;
          }}>{copied ? "Copied" : "Copy"}</button
        >
        <button class="control" onclick={() => (secret = "")}>I have stored it</button>
      </div>
    </div>
  {/if}
  {#if trouble}<p class="mb-3 text-failed" role="alert">{trouble}</p>{/if}

  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 lg:grid-cols-[minmax(0,1fr)_320px]">
    <section class="sheet overflow-x-auto" aria-label="Tokens">
      <table class="w-full border-collapse">
        <thead class="text-left text-[12.5px] text-soft">
          <tr class="[&>th]:px-3 [&>th]:py-2 [&>th]:font-medium [&>th:first-child]:pl-4.5">
            <th>Name</th><th>Writes to</th><th class="max-sm:hidden">Reads from</th><th>Rights</th><th
              class="max-md:hidden">Expires</th
            ><th class="max-md:hidden">Made</th><th><span class="sr-only">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          {#each list.data ?? [] as t (t.id)}
            <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
              <td class="font-medium">{t.name}{t.id === session.self.id ? " (you)" : ""}</td>
              <td><code>{t.writes_to || "–"}</code></td>
              <td class="max-sm:hidden"><code>{t.reads_from.join(", ") || "–"}</code></td>
              <td>{rights(t)}</td>
              <td class="whitespace-nowrap max-md:hidden"
                >{#if t.expires}<time title={exact(t.expires)}>{when(t.expires)}</time>{:else}never{/if}</td
              >
              <td class="whitespace-nowrap small max-md:hidden"
                ><time title={exact(t.made_at)}>{when(t.made_at)}</time>{t.made_by ? ` by ${t.made_by}` : ""}</td
              >
              <td class="whitespace-nowrap">
                <button
                  class="control mr-1"
                  disabled={busy}
                  aria-label="Rotate {t.name}"
                  onclick={() => (asking = { word: "Rotate", token: t })}>Rotate</button
                >
                <button
                  class="control"
                  disabled={busy}
                  aria-label="Revoke {t.name}"
                  onclick={() => (asking = { word: "Revoke", token: t })}>Revoke</button
                >
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if list.trouble}<p class="px-4.5 py-3">The tokens could not be loaded: {list.trouble}</p>{/if}
    </section>

    <form class="sheet grid gap-2.5 px-4.5 py-3.5" onsubmit={make} aria-label="Make a token">
      <h2 class="text-base font-semibold">Make a token</h2>
      <label
        ><span class="small">Name of the person or job</span><input class={field} required bind:value={name} /></label
      >
      <label
        ><span class="small">Writes to: a shelf or a pattern; empty for none</span><input
          class={field}
          placeholder="person/kari, branch/*, trusted"
          bind:value={writes}
        /></label
      >
      <label
        ><span class="small">Reads from: shelves, with commas</span><input class={field} bind:value={reads} /></label
      >
      <label
        ><span class="small">Days until it expires; 0 for never</span><input
          class={field}
          type="number"
          min="0"
          max="36500"
          bind:value={days}
        /></label
      >
      <label class="flex items-center gap-2"
        ><input type="checkbox" class="accent-copper" bind:checked={view} /> may view records</label
      >
      <label
        ><span class="small">Serves as a runner: pools, with commas; empty for none</span><input
          class={field}
          placeholder="linux"
          bind:value={serves}
        /></label
      >
      <label class="flex items-center gap-2"
        ><input type="checkbox" class="accent-copper" bind:checked={request} /> may request runs</label
      >
      <label class="flex items-center gap-2"
        ><input type="checkbox" class="accent-copper" bind:checked={manage} /> may manage access and retention</label
      >
      <button class="control mt-1 border-copper font-semibold text-copper" disabled={busy}>Make the token</button>
    </form>
  </div>

  <section class="sheet mt-4.5 overflow-x-auto" aria-label="Audit log">
    <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">Audit log</h2>
    <table class="w-full border-collapse">
      <thead class="text-left text-[12.5px] text-soft">
        <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5"
          ><th>When</th><th>Who</th><th class="max-sm:hidden">From</th><th>What</th><th class="max-sm:hidden">Detail</th
          ></tr
        >
      </thead>
      <tbody>
        {#each log.data ?? [] as r (r.id)}
          <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
            <td class="whitespace-nowrap"><time title={exact(r.at)}>{when(r.at)}</time></td>
            <td>{r.actor}</td><td class="small max-sm:hidden">{r.address}</td>
            <td>{r.action}{r.subject ? `: ${r.subject}` : ""}</td><td class="small max-sm:hidden">{r.detail}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if log.data?.length === 0}<p class="px-4.5 pb-3 text-soft">Nothing was changed yet.</p>{/if}
    {#if next}<button class="px-4.5 py-2 text-copper underline" onclick={older}>older</button>{/if}
  </section>
  <AlertDialog.Root bind:open={() => asking !== null, (open) => !open && (asking = null)}>
    <AlertDialog.Portal>
      <AlertDialog.Overlay class="fixed inset-0 z-30 bg-black/40" />
      <AlertDialog.Content class="sheet fixed top-1/3 left-1/2 z-40 w-[min(420px,92vw)] -translate-x-1/2 p-6">
        <AlertDialog.Title class="text-base font-semibold">{asking?.word} {asking?.token.name}?</AlertDialog.Title>
        <AlertDialog.Description class="mt-1 text-soft"
          >{asking?.word === "Rotate"
            ? "It gets a new secret. The old one works for one more hour; its sessions end."
            : "It stops working at once, and cannot be restored."}</AlertDialog.Description
        >
        <div class="mt-4 flex justify-end gap-2">
          <AlertDialog.Cancel class="control">Cancel</AlertDialog.Cancel>
          <AlertDialog.Action class="control border-copper font-semibold text-copper" onclick={confirm}
            >{asking?.word}</AlertDialog.Action
          >
        </div>
      </AlertDialog.Content>
    </AlertDialog.Portal>
  </AlertDialog.Root>
{/if}
