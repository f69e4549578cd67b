<script lang="ts">
  import { Button, Label } from "bits-ui";
  import { session } from "../lib/session.svelte";

  let token = $state("");
  let trouble = $state("");
  let busy = $state(false);

  async function enter(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    trouble = "";
    try {
      await session.enter(token);
    } catch (err) {
      trouble = (err as Error).message;
    } finally {
      busy = false;
    }
  }
</script>

<main class="mx-auto max-w-md px-4 pt-[14vh]">
  <form class="sheet p-7" onsubmit={enter}>
    <h1 class="text-[21px] font-semibold tracking-tight">Sign in to Gray Loft</h1>
    <p class="mt-1 text-soft">
      {#if session.ended}Your session has ended. Sign in again to continue on this page.{:else}Use a token with the
        right to view records.{/if}
    </p>
    <Label.Root class="mt-5 block font-medium" for="token">Token</Label.Root>
    <input
      id="token"
      type="password"
      autocomplete="current-password"
      required
      class="mt-1 w-full rounded-control border border-line bg-paper px-3 py-2 font-mono text-[12.5px]"
      bind:value={token}
      aria-invalid={trouble !== ""}
      aria-describedby="trouble"
    />
    <p id="trouble" class="mt-2 min-h-5 text-failed" role="alert">{trouble}</p>
    <Button.Root type="submit" disabled={busy} class="control mt-2 border-copper font-semibold text-copper">
      {busy ? "Signing in…" : "Sign in"}
    </Button.Root>
    <p class="small mt-6">To make a token, run this where the service runs:</p>
    <pre class="mt-1 rounded-control border border-line bg-paper px-3 py-2 break-words whitespace-pre-wrap"><code
        >grayloftd token new --repo REPO --name YOU --view</code
      ></pre>
  </form>
</main>
