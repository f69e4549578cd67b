<script lang="ts">
  import { DropdownMenu } from "bits-ui";
  import { isActive, p, route } from "./routes";
  import Search from "./Search.svelte";
  import { session } from "./session.svelte";

  const pages = [
    { path: "/", name: "Runs", also: ["/runs/", "/compare"] },
    { path: "/tasks", name: "Tasks", also: ["/tasks/"] },
    { path: "/advice", name: "Advice", also: [] },
    { path: "/projects", name: "Projects", also: [] },
    { path: "/cache", name: "Cache", also: ["/cache/"] },
    { path: "/fleet", name: "Fleet", also: ["/fleet/"] },
    { path: "/access", name: "Access", also: [] },
  ] as const;
  const isOn = (x: (typeof pages)[number]) => isActive(x.path) || x.also.some((a) => route.pathname.startsWith(a));

  // On a narrow screen, the names of the pages scroll: the one that is open is seen.
  let bar: HTMLElement | undefined = $state();
  $effect(() => {
    void route.pathname;
    const open = bar?.querySelector<HTMLElement>("[aria-current=page]");
    if (bar && open) bar.scrollLeft = open.offsetLeft - bar.offsetLeft - (bar.clientWidth - open.offsetWidth) / 2;
  });
</script>

<header class="flex flex-wrap items-center gap-x-5 gap-y-1 border-b border-line bg-sheet px-4 sm:px-7">
  <a href={p("/")} class="flex h-13 items-center gap-2 font-semibold tracking-tight text-ink no-underline">
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true">
      <path d="M2 10 11 3l9 7" fill="none" stroke="var(--copper)" stroke-width="2" />
      <path d="M5 12.5h12M5 16h12M5 19.5h12" stroke="var(--ink)" stroke-width="1.6" />
    </svg>
    Gray Loft
  </a>
  <span class="border-l border-line pl-3.5 text-soft">{session.repo}</span>
  <nav
    bind:this={bar}
    class="-mx-2.5 flex flex-1 overflow-x-auto max-sm:order-4 max-sm:w-full max-sm:flex-none"
    aria-label="Pages"
  >
    {#each pages as x (x.path)}
      <a
        href={p(x.path)}
        aria-current={isOn(x) ? "page" : undefined}
        class="border-b-2 px-2.5 py-3.5 font-medium whitespace-nowrap no-underline focus-visible:outline-offset-[-2px] {isOn(
          x,
        )
          ? 'border-copper text-ink'
          : 'border-transparent text-soft'}">{x.name}</a
      >
    {/each}
  </nav>
  <Search />
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="control my-2 max-sm:order-2 max-sm:ml-auto">{session.self?.name}</DropdownMenu.Trigger>
    <DropdownMenu.Portal>
      <DropdownMenu.Content class="sheet z-20 min-w-56 py-2" sideOffset={6} align="end">
        <div class="px-4 py-1 small">reads from {session.self?.reads_from.join(", ") || "no shelf"}</div>
        <div class="px-4 py-1 small">writes to {session.self?.writes_to || "no shelf"}</div>
        <DropdownMenu.Item class="cursor-pointer px-4 py-1.5 data-highlighted:bg-wash" onSelect={() => session.leave()}
          >Sign out</DropdownMenu.Item
        >
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</header>
