<script lang="ts">
  import { DropdownMenu } from "bits-ui";
  import { searchParams } from "sv-router";
  import { isActive, navigate, p, route } from "./routes";
  import { session } from "./session.svelte";

  let box: HTMLInputElement | undefined = $state();
  const text = $derived(route.pathname === "/" ? String(searchParams.get("find") ?? "") : "");

  function find(value: string) {
    if (route.pathname !== "/") navigate("/", { search: value ? { find: value } : {} });
    else if (value) searchParams.set("find", value, { replace: true });
    else searchParams.delete("find", undefined, { replace: true });
  }

  function key(e: KeyboardEvent) {
    const typing = (e.target as HTMLElement).closest("input, textarea");
    if (e.key === "/" && !typing && !e.ctrlKey && !e.metaKey && !e.altKey) {
      e.preventDefault();
      box?.focus();
    }
  }
</script>

<svelte:window onkeydown={key} />

<header class="flex flex-wrap items-center gap-x-7 gap-y-1 border-b border-line bg-sheet px-4 sm:px-7">
  <a href={p("/")} class="flex h-13 items-center gap-2 font-semibold tracking-tight text-ink no-underline">
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true">
      <path d="M2 10 11 3l9 7" fill="none" stroke="var(--copper)" stroke-width="2" />
      <path d="M5 12.5h12M5 16h12M5 19.5h12" stroke="var(--ink)" stroke-width="1.6" />
    </svg>
    Gray Loft
  </a>
  <span class="border-l border-line pl-3.5 text-soft">{session.repo}</span>
  <nav class="flex flex-1 gap-1" aria-label="Pages">
    <a
      href={p("/")}
      class="border-b-2 px-2.5 py-3.5 font-medium no-underline {isActive('/') || route.pathname.startsWith('/runs/')
        ? 'border-copper text-ink'
        : 'border-transparent text-soft'}">Runs</a
    >
  </nav>
  <label class="flex w-full items-center rounded-control border border-line bg-paper sm:w-[230px]">
    <span class="sr-only">Find a run</span>
    <input
      bind:this={box}
      class="w-full min-w-0 bg-transparent px-2.5 py-1 outline-none placeholder:text-faint"
      placeholder="Find a run"
      value={text}
      oninput={(e) => find(e.currentTarget.value)}
      onkeydown={(e) => {
        if (e.key === "Escape") {
          find("");
          e.currentTarget.blur();
        }
        if (e.key === "Enter" || e.key === "ArrowDown") {
          e.preventDefault();
          document.querySelector<HTMLElement>("[data-row]")?.focus();
        }
      }}
    />
    <kbd class="px-2.5 font-mono text-xs text-faint">/</kbd>
  </label>
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="control my-2">{session.self?.name}</DropdownMenu.Trigger>
    <DropdownMenu.Portal>
      <DropdownMenu.Content class="sheet z-10 min-w-56 py-2" sideOffset={6} align="end">
        <div class="px-4 py-1 small">reads from {session.self?.reads_from.join(", ") || "no shelf"}</div>
        <div class="px-4 py-1 small">writes to {session.self?.writes_to || "no shelf"}</div>
        <DropdownMenu.Item class="cursor-pointer px-4 py-1.5 data-highlighted:bg-wash" onSelect={() => session.leave()}
          >Sign out</DropdownMenu.Item
        >
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</header>
