<script lang="ts">
  import { runs, tasks } from "./api";
  import { navigate } from "./routes";
  import { session } from "./session.svelte";
  import { when } from "./words";

  // One field that finds a run, a task, or what a file reaches.
  type Hit = { id: string; kind: string; text: string; note: string; open: () => void };

  let box: HTMLInputElement | undefined = $state();
  let text = $state("");
  let hits = $state.raw<Hit[]>([]);
  let open = $state(false);
  let at = $state(0);
  let asked = 0;
  let waiting: ReturnType<typeof setTimeout> | undefined;

  function always(t: string): Hit[] {
    const list: Hit[] = [
      {
        id: "runs",
        kind: "runs",
        text: `all runs that match “${t}”`,
        note: "",
        open: () => navigate("/", { search: { find: t, days: 365 } }),
      },
    ];
    if (t.includes("/") || /\.\w+$/.test(t))
      list.unshift({
        id: "reach",
        kind: "file",
        text: `what ${t} reaches`,
        note: "",
        open: () => navigate("/projects", { search: { path: t } }),
      });
    return list;
  }

  function find() {
    const t = text.trim();
    const mine = ++asked;
    clearTimeout(waiting);
    at = 0;
    hits = t ? always(t) : [];
    open = t !== "";
    if (!t) return;
    waiting = setTimeout(async () => {
      const [found, list] = await Promise.all([
        tasks(session.repo, { text: t, limit: 6, weeks: 53 }).catch(() => null),
        runs(session.repo, { text: t, limit: 4, days: 365 }).catch(() => null),
      ]);
      if (mine !== asked) return;
      hits = [
        ...(found?.tasks ?? []).map((x) => ({
          id: x.task,
          kind: "task",
          text: x.task,
          note: x.owner,
          open: () => navigate("/tasks/:task", { params: { task: x.task } }),
        })),
        ...(list?.runs ?? []).map((r) => ({
          id: r.id,
          kind: "run",
          text: r.requested.join(" ") || "picked",
          note: `${r.name}, ${when(r.started)}`,
          open: () => navigate("/runs/:id", { params: { id: r.id } }),
        })),
        ...always(t),
      ];
    }, 180);
  }

  function choose(h: Hit | undefined) {
    if (!h) return;
    asked++;
    open = false;
    text = "";
    box?.blur();
    h.open();
  }

  function key(e: KeyboardEvent) {
    const typing = (e.target as HTMLElement).closest("input, textarea, select");
    if (e.key === "/" && !typing && !e.ctrlKey && !e.metaKey && !e.altKey) {
      e.preventDefault();
      box?.focus();
    }
  }

  function boxKey(e: KeyboardEvent) {
    if (e.key === "Escape") {
      e.stopPropagation();
      if (open) open = false;
      else {
        text = "";
        box?.blur();
      }
    } else if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      at = (at + (e.key === "ArrowDown" ? 1 : -1) + hits.length) % Math.max(1, hits.length);
    } else if (e.key === "Enter") choose(hits[at]);
  }
</script>

<svelte:window onkeydown={key} />

<div class="relative w-full max-sm:order-3 sm:w-[230px]">
  <label class="flex items-center rounded-control border border-line bg-paper">
    <span class="sr-only">Find a run, a task or a file</span>
    <input
      bind:this={box}
      bind:value={text}
      class="w-full min-w-0 bg-transparent px-2.5 py-1 outline-none placeholder:text-faint"
      placeholder="Find a run, task or file"
      role="combobox"
      aria-expanded={open}
      aria-controls="search-hits"
      aria-autocomplete="list"
      aria-activedescendant={open && hits[at] ? `hit-${at}` : undefined}
      autocomplete="off"
      oninput={find}
      onkeydown={boxKey}
      onblur={() => setTimeout(() => (open = false), 150)}
      onfocus={() => (open = hits.length > 0 && text !== "")}
    />
    <kbd class="px-2.5 font-mono text-xs text-faint">/</kbd>
  </label>
  <ul
    id="search-hits"
    role="listbox"
    aria-label="Found"
    class="sheet absolute right-0 left-0 z-20 mt-1 overflow-hidden py-1 sm:left-auto sm:w-96 {open ? '' : 'hidden'}"
  >
    {#each hits as h, i (h.kind + h.id)}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="hit-{i}"
        role="option"
        aria-selected={i === at}
        class="flex cursor-pointer gap-2.5 px-3.5 py-1.5 {i === at ? 'bg-wash' : ''}"
        onclick={() => choose(h)}
      >
        <span class="w-9 shrink-0 small">{h.kind}</span>
        <span class="min-w-0 flex-1 truncate">{h.text}</span>
        <span class="truncate small">{h.note}</span>
      </li>
    {/each}
  </ul>
</div>
