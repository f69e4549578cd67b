<script lang="ts">
  import { Dialog } from "bits-ui";
  import { makeRequest, type Ask, type Fleet } from "./api";
  import { counted } from "./words";
  import { commandOf, quoted, revision, wordsOf } from "./fleet";
  import { navigate } from "./routes";
  import { session } from "./session.svelte";

  // Asks for a run on runners. It starts with the options of the last request.
  type Props = { open: boolean; pools: Fleet["pools"]; last?: Ask };
  let { open = $bindable(), pools, last }: Props = $props();

  let pool = $state("");
  let at = $state("main");
  let tasks = $state("");
  let pick = $state("");
  let since = $state("");
  let args = $state("");
  let modes = $state("");
  let sets = $state("");
  let priority = $state(2);
  let spread = $state(1);
  let preview = $state(false);
  let noReuse = $state(false);
  let keepGoing = $state(false);
  let busy = $state(false);
  let trouble = $state("");
  let wasOpen = false;

  $effect(() => {
    if (open && !wasOpen) {
      trouble = "";
      pool = last?.pool || pools.find((x) => x.runners > 0)?.name || pools[0]?.name || "";
      at = (last && !last.changes && last.commit) || last?.branch || "main";
      tasks = last?.tasks.join(" ") ?? "";
      pick = last?.pick ?? "";
      since = last?.since ?? "";
      args = last?.args?.map(quoted).join(" ") ?? "";
      modes = last?.modes?.join(" ") ?? "";
      sets = last?.sets?.join(" ") ?? "";
      priority = last?.priority || 2;
      spread = last?.spread || 1;
      preview = last?.preview ?? false;
      noReuse = last?.no_reuse ?? false;
      keepGoing = last?.keep_going ?? false;
    }
    wasOpen = open;
  });

  const words = (text: string) => text.split(/\s+/).filter(Boolean);
  const ask = $derived<Ask>({
    pool,
    ...revision(at.trim()),
    tasks: words(tasks),
    pick: pick.trim() || undefined,
    since: since.trim() || undefined,
    args: wordsOf(args),
    modes: words(modes),
    sets: words(sets),
    priority,
    spread: Number(spread) || 1,
    preview,
    no_reuse: noReuse,
    keep_going: keepGoing,
  });

  async function send(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    trouble = "";
    try {
      const made = await makeRequest(session.repo, ask);
      open = false;
      navigate("/fleet/:id", { params: { id: String(made.id) } });
    } catch (x) {
      trouble = (x as Error).message;
    } finally {
      busy = false;
    }
  }
  const field = "w-full min-w-0 rounded-control border border-line bg-paper px-2.5 py-1";
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-30 bg-black/40" />
    <Dialog.Content
      class="sheet fixed top-[6vh] left-1/2 z-40 max-h-[88vh] w-[min(620px,94vw)] -translate-x-1/2 overflow-y-auto p-6"
    >
      <Dialog.Title class="text-base font-semibold">Request a run</Dialog.Title>
      <Dialog.Description class="mt-0.5 text-soft"
        >A runner of the pool carries it out. A checkout with local changes is requested from a terminal.</Dialog.Description
      >
      <form class="mt-3.5 grid grid-cols-2 gap-x-3.5 gap-y-2.5 max-sm:grid-cols-1" onsubmit={send}>
        <label
          ><span class="small">Pool</span><select class={field} required bind:value={pool}>
            {#each pools as x (x.name)}<option value={x.name}
                >{x.name}{x.protected ? " (protected)" : ""}, {counted(x.runners, "runner")}</option
              >{/each}
          </select></label
        >
        <label
          ><span class="small">Branch, or the full id of a commit</span><input
            class={field}
            required
            bind:value={at}
          /></label
        >
        <label
          ><span class="small">Tasks, separated by blanks</span><input
            class={field}
            placeholder="build test"
            required={!pick}
            bind:value={tasks}
          /></label
        >
        <label
          ><span class="small">Pick</span><input
            class={field}
            placeholder="affected and tag:web"
            bind:value={pick}
          /></label
        >
        <label
          ><span class="small">Changed since</span><input
            class={field}
            placeholder="last-good, or a commit"
            bind:value={since}
          /></label
        >
        <label
          ><span class="small">Arguments of the tasks</span><input
            class={field}
            placeholder="-run 'Fog.*'"
            bind:value={args}
          /></label
        >
        <label
          ><span class="small">Settings, as name=value</span><input
            class={field}
            placeholder="optimise=speed"
            bind:value={sets}
          /></label
        >
        <label><span class="small">Modes</span><input class={field} placeholder="debug" bind:value={modes} /></label>
        <label
          ><span class="small">Priority</span><select class={field} bind:value={priority}>
            <option value={1}>high</option><option value={2}>normal</option><option value={3}>low</option>
          </select></label
        >
        <label
          ><span class="small">Runners that share the work</span><input
            class={field}
            type="number"
            min="1"
            max="100"
            bind:value={spread}
          /></label
        >
        <div class="col-span-full flex flex-wrap gap-x-5 gap-y-1">
          <label class="flex items-center gap-2"
            ><input type="checkbox" class="accent-copper" bind:checked={preview} /> preview only</label
          >
          <label class="flex items-center gap-2"
            ><input type="checkbox" class="accent-copper" bind:checked={noReuse} /> reuse nothing</label
          >
          <label class="flex items-center gap-2"
            ><input type="checkbox" class="accent-copper" bind:checked={keepGoing} /> continue after failures</label
          >
        </div>
        <div class="col-span-full">
          <span class="small">The same as a command</span>
          <code class="block rounded-control border border-line bg-paper px-2.5 py-1.5 break-words" data-command
            >{commandOf(ask)}</code
          >
        </div>
        {#if trouble}<p class="col-span-full text-failed" role="alert">{trouble}</p>{/if}
        <div class="col-span-full flex justify-end gap-2">
          <Dialog.Close class="control">Close</Dialog.Close>
          <button class="control border-copper font-semibold text-copper" disabled={busy}>Request it</button>
        </div>
      </form>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
