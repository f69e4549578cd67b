<script lang="ts">
  import { AlertDialog } from "bits-ui";
  import { tick, untrack } from "svelte";
  import {
    cancelRequest,
    follow,
    request as askRequest,
    requestOutput,
    requestPlan,
    type Output,
    type Plan,
    type Request,
  } from "../lib/api";
  import { commandOf, revisionOf, whatOf } from "../lib/fleet";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { p, route } from "../lib/routes";
  import { session } from "../lib/session.svelte";
  import StateMark from "../lib/StateMark.svelte";
  import { bytes, counted, exact, reasons, seconds, when } from "../lib/words";

  const id = $derived(Number((route.params as { id?: string }).id));
  const it = new Loader<Request>();
  const plan = new Loader<Plan>();
  const load = () => askRequest(session.repo, id);
  let lines = $state.raw<Output["lines"]>([]);
  let next = 0;
  let reading = false;
  let missed = false;
  let box: HTMLElement | undefined = $state();

  // What is new of the output; who looks at its end stays there.
  async function read() {
    missed = true;
    if (reading) return;
    reading = true;
    const mine = id;
    try {
      while (missed) {
        missed = false;
        const part = await requestOutput(session.repo, mine, next);
        if (mine !== id) break;
        if (part.lines.length > 0) {
          const atEnd = !box || box.scrollTop + box.clientHeight > box.scrollHeight - 40;
          next = part.next;
          lines = [...lines, ...part.lines];
          missed = true;
          await tick();
          if (atEnd && box) box.scrollTop = box.scrollHeight;
        }
      }
    } catch {
      // The next change asks again.
    } finally {
      reading = false;
    }
  }
  $effect(() => {
    void id;
    untrack(() => {
      lines = [];
      next = 0;
      it.ask(load, true);
      read();
    });
  });
  $effect(() => {
    const repo = session.repo;
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const stop = follow(
      repo,
      () => {},
      undefined,
      (changed) => {
        if (changed !== undefined && changed !== id) return;
        waiting ??= setTimeout(() => {
          waiting = undefined;
          it.refresh(load);
          read();
        }, 500);
      },
    );
    return () => {
      stop();
      clearTimeout(waiting);
    };
  });
  const q = $derived(it.data);
  $effect(() => {
    if (q?.jobs.some((j) => j.plan)) untrack(() => plan.ask(() => requestPlan(session.repo, id)));
  });
  const ended = $derived(!!q?.ended);
  const took = (from?: string, to?: string) =>
    from ? seconds(((to ? Date.parse(to) : Date.now()) - Date.parse(from)) / 1000) : "";
  const runners = $derived([...new Set((q?.jobs ?? []).map((j) => j.runner).filter(Boolean))].join(", "));
  const sentence = $derived.by(() => {
    if (!q) return `Request ${id}`;
    const on = runners ? ` on ${runners}` : "";
    switch (q.state) {
      case "queued":
        return `Request ${id} waits in the pool ${q.ask.pool}${q.ahead ? `, ${q.ahead} before it` : ""}`;
      case "running":
        return `Request ${id} runs${on} since ${when(q.started!)}`;
      case "cancelled":
        return `Request ${id} was cancelled by ${q.cancelled_by}`;
      case "lost":
        return `Request ${id} is lost: its runners disappeared`;
    }
    return `Request ${id} ${q.state}${on} after ${took(q.started, q.ended)}`;
  });
  const mayCancel = $derived(!ended && (session.self?.manage || q?.name === session.self?.name));
  let asking = $state(false);
  let trouble = $state("");
  async function cancel() {
    asking = false;
    try {
      await cancelRequest(session.repo, id);
      it.refresh(load);
    } catch (e) {
      trouble = (e as Error).message;
    }
  }
  const named = $derived([...new Set((plan.data?.tasks ?? []).map((t) => t.reason).filter(Boolean))] as string[]);
  const work = $derived(
    (plan.data?.tasks ?? []).filter((t) => ["ran", "may-run", "fetched", "failed"].includes(t.outcome)),
  );
  const verb: Record<string, string> = { ran: "run", "may-run": "may run", fetched: "fetch", failed: "fails" };
</script>

{#if it.trouble && !q}
  <Heading title="Request {id}">Request {id}</Heading>
  <Notice
    title={it.status === 404 ? "There is no such request" : "The request could not be loaded"}
    text={it.trouble}
    action="Try again"
    onaction={() => it.ask(load)}
  />
{:else}
  <Heading title="Request {id}">
    {sentence}
    {#snippet about()}{#if q}{whatOf(q.ask)} at <code>{revisionOf(q.ask)}</code>, requested by {q.name}
        <time title={exact(q.at)}>{when(q.at)}</time>; results go to <code>{q.shelf}</code>{/if}{/snippet}
    {#snippet controls()}
      {#if mayCancel}<button class="control" onclick={() => (asking = true)}>Cancel it</button>{/if}
    {/snippet}
  </Heading>
  {#if trouble}<p class="mb-3 text-failed" role="alert">{trouble}</p>{/if}
  {#if q}
    <section class="sheet mb-4.5 overflow-x-auto" aria-label="Jobs">
      <table class="w-full border-collapse">
        <thead class="text-left text-[12.5px] text-soft">
          <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5"
            ><th>Job</th><th>State</th><th>Runner</th><th class="text-right">Attempt</th><th class="max-sm:hidden"
              >Commit</th
            ><th class="text-right">Took</th><th>Run</th></tr
          >
        </thead>
        <tbody>
          {#each q.jobs as j (j.id)}
            <tr class="border-t border-hair [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
              <td>{j.member}</td>
              <td class="whitespace-nowrap"><StateMark state={j.state} /> {j.state}</td>
              <td>{j.runner ?? "–"}</td>
              <td class="text-right">{j.attempt || "–"}</td>
              <td class="max-sm:hidden"><code>{j.commit?.slice(0, 8) ?? "–"}</code></td>
              <td class="text-right whitespace-nowrap">{took(j.started, j.ended)}</td>
              <td
                >{#if j.run}<a href={p("/runs/:id", { params: { id: j.run } })}>its record</a>{:else}–{/if}</td
              >
            </tr>
            {#if j.message}<tr
                ><td colspan="7" class="px-4.5 pb-2 {j.state === 'failed' ? 'text-failed' : 'text-soft'}"
                  >{j.message}</td
                ></tr
              >{/if}
          {/each}
        </tbody>
      </table>
      {#if q.ask.changes}
        <p class="border-t border-hair px-4.5 py-2 small">
          With local changes: {counted(q.ask.changes.files, "file")}, {bytes(q.ask.changes.bytes)}; the work tree is
          <code>{q.ask.changes.tree.slice(0, 12)}</code>.
        </p>
      {:else}
        <p class="border-t border-hair px-4.5 py-2 small">
          The same again: <code class="break-words">{commandOf(q.ask)}</code>
        </p>
      {/if}
    </section>

    {#if plan.data}
      <section class="sheet mb-4.5 overflow-x-auto" aria-label="Plan">
        <h2 class="px-4.5 pt-3 pb-1 text-base font-semibold">
          {work.length} of {counted(plan.data.tasks.length, "task")} would run or be fetched there{plan.data.seconds > 0
            ? `, about ${seconds(plan.data.seconds)}`
            : ""}
        </h2>
        <table class="w-full border-collapse">
          <thead class="text-left text-[12.5px] text-soft">
            <tr class="[&>th]:px-3 [&>th]:py-1.5 [&>th]:font-medium [&>th:first-child]:pl-4.5"
              ><th>Outcome</th><th>Task</th><th>Reason</th><th>Detail</th><th class="max-md:hidden">Last built</th><th
                class="text-right">Expected</th
              ></tr
            >
          </thead>
          <tbody>
            {#each work as t (t.task)}
              <tr class="border-t border-hair align-top [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5">
                <td class="whitespace-nowrap">{verb[t.outcome]}</td>
                <td><a href={p("/tasks/:task", { params: { task: t.task } })}>{t.task}</a></td>
                <td>{t.reason ?? ""}</td>
                <td class="break-words"
                  >{t.on.length ? `unless ${t.on.join(", ")} produces the same outputs` : t.detail.join("; ")}
                  {#if t.files}
                    <details>
                      <summary class="cursor-pointer text-soft">reads {counted(t.files, "file")}</summary>
                      <ul class="font-mono text-[12px]">
                        {#each t.reads ?? [] as path (path)}<li>{path}</li>{/each}
                        {#if t.files > (t.reads?.length ?? 0)}<li class="text-soft">
                            and {t.files - (t.reads?.length ?? 0)} more
                          </li>{/if}
                      </ul>
                    </details>
                  {/if}</td
                >
                <td class="max-md:hidden"
                  >{#if t.compared_with}<a href={p("/runs/:id", { params: { id: t.compared_with.run } })}
                      >{when(t.compared_with.at)}</a
                    >{:else if t.made_by}<a href={p("/runs/:id", { params: { id: t.made_by.run } })}
                      >by {t.made_by.name}, {t.made_by.place}</a
                    >{/if}</td
                >
                <td class="text-right whitespace-nowrap">{t.expected_seconds ? seconds(t.expected_seconds) : ""}</td>
              </tr>
            {/each}
          </tbody>
        </table>
        <dl class="border-t border-hair px-4.5 py-2 small" aria-label="Legend">
          {#each named as r (r)}<div>
              <dt class="inline font-medium">{r}</dt>
              <dd class="inline">{reasons[r] ?? ""}</dd>
            </div>{/each}
        </dl>
      </section>
    {/if}

    <section class="sheet px-4.5 py-3" aria-label="Output">
      <h2 class="mb-1.5 text-base font-semibold">Output</h2>
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div
        bind:this={box}
        class="max-h-[480px] overflow-auto rounded-control border border-hair px-2.5 py-1.5 font-mono text-[12px] leading-[18px]"
        tabindex="0"
        role="log"
        aria-label="Output of request {id}"
      >
        {#each lines as l, i (i)}<div class="min-h-[18px] whitespace-pre">
            {#if q.jobs.length > 1}<span class="mr-2 text-faint select-none">{l.member}</span>{/if}{l.text}
          </div>{:else}<span class="text-soft">{ended ? "It printed nothing." : "Nothing was printed yet."}</span
          >{/each}
      </div>
    </section>
  {/if}
{/if}

<AlertDialog.Root bind:open={asking}>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="fixed inset-0 z-30 bg-black/40" />
    <AlertDialog.Content class="sheet fixed top-1/3 left-1/2 z-40 w-[min(420px,92vw)] -translate-x-1/2 p-6">
      <AlertDialog.Title class="text-base font-semibold">Cancel request {id}?</AlertDialog.Title>
      <AlertDialog.Description class="mt-1 text-soft"
        >What waits is not started; what runs is stopped. Results that are already shared stay.</AlertDialog.Description
      >
      <div class="mt-4 flex justify-end gap-2">
        <AlertDialog.Cancel class="control">Leave it running</AlertDialog.Cancel>
        <AlertDialog.Action class="control border-copper font-semibold text-copper" onclick={cancel}
          >Cancel the request</AlertDialog.Action
        >
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
