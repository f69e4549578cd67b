<script lang="ts">
  import { Router } from "sv-router";
  import "./lib/routes";
  import { session } from "./lib/session.svelte";
  import Header from "./lib/Header.svelte";
  import Notice from "./lib/Notice.svelte";
  import SignIn from "./pages/SignIn.svelte";

  session.begin();
</script>

{#if session.trouble}
  <main class="mx-auto max-w-xl p-8">
    <Notice
      title="The service does not answer"
      text={session.trouble}
      action="Try again"
      onaction={() => session.begin()}
    />
  </main>
{:else if session.self === null}
  <SignIn />
{:else if session.self}
  <Header />
  <main class="mx-auto max-w-[1440px] px-4 pt-5 pb-10 sm:px-7">
    {#if session.self.generated}<p class="mb-2 font-medium text-copper">
        These records are generated, to show the console at scale.
      </p>{/if}
    <Router />
  </main>
{/if}
