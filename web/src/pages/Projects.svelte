<script lang="ts">
  import { untrack } from "svelte";
  import { projects as ask, reach as askReach, type ProjectRow, type Reach } from "../lib/api";
  import { param, setParam } from "../lib/address";
  import Choice from "../lib/Choice.svelte";
  import Heading from "../lib/Heading.svelte";
  import { Loader } from "../lib/load.svelte";
  import Notice from "../lib/Notice.svelte";
  import { closure, nodesOf, type Grouping } from "../lib/projects";
  import { p } from "../lib/routes";
  import { rowKeys } from "../lib/rows";
  import { session } from "../lib/session.svelte";
  import { counted, many } from "../lib/words";

  const loader = new Loader<ProjectRow[]>();
  const reached = new Loader<Reach>();
  const load = async () => (await ask(session.repo)).projects;
  $effect(() => untrack(() => void loader.ask(load)));
  const all = $derived(loader.data ?? []);
  const path = $derived(param("path"));
  $effect(() => {
    const name = path;
    if (name) untrack(() => reached.ask(() => askReach(session.repo, name), true));
  });

  const view = $derived(param("view", "graph"));
  const by = $derived(param("by") as Grouping);
  const text = $derived(param("text"));
  const focus = $derived(param("focus") === "yes");
  const picked = $derived(param("project"));
  const project = $derived(all.find((x) => x.name === picked));
  const needs = $derived(project ? closure(all, project.name, false) : new Set<string>());
  const neededBy = $derived(project ? closure(all, project.name, true) : new Set<string>());
  const shown = $derived(
    all.filter(
      (x) =>
        (!text || `${x.name} ${x.dir} ${x.tags.join(" ")} ${x.owner}`.toLowerCase().includes(text.toLowerCase())) &&
        (!focus || !project || x.name === picked || needs.has(x.name) || neededBy.has(x.name)),
    ),
  );
  const nodes = $derived(nodesOf(shown, by));
  const tasks = $derived(all.reduce((n, x) => n + x.tasks.length, 0));
  let copied = $state("");
  async function copy(command: string) {
    await navigator.clipboard.writeText(command);
    copied = command;
  }
  function pick(id: string) {
    if (all.some((x) => x.name === id)) setParam("project", id);
    else {
      // A group opens as its members.
      setParam("by", "");
      setParam("text", id.replace(/^tag:/, ""));
    }
  }
</script>

<Heading title="Projects">
  {loader.data ? `${counted(all.length, "project")} with ${counted(tasks, "task")}` : "Projects"}
  {#snippet about()}As the newest run on the trusted shelf declared them{/snippet}
  {#snippet controls()}
    <Choice
      label="View"
      value={view}
      items={[
        { value: "graph", name: "Graph" },
        { value: "list", name: "List" },
      ]}
      onchange={(v) => setParam("view", v, "graph")}
    />
  {/snippet}
</Heading>

<div class="mb-3 flex flex-wrap items-center gap-2">
  <input
    type="search"
    class="w-52 rounded-control border border-line bg-sheet px-2.5 py-1"
    placeholder="name, directory, tag, owner"
    aria-label="Filter projects"
    value={text}
    oninput={(e) => setParam("text", e.currentTarget.value)}
  />
  {#if view === "graph"}
    <Choice
      label="Show as one"
      value={by}
      items={[
        { value: "", name: "Each project" },
        { value: "directory", name: "By directory" },
        { value: "tag", name: "By tag" },
      ]}
      onchange={(v) => setParam("by", v)}
    />
  {/if}
  {#if project}<label class="flex items-center gap-1.5"
      ><input
        type="checkbox"
        class="accent-copper"
        checked={focus}
        onchange={(e) => setParam("focus", e.currentTarget.checked ? "yes" : "")}
      />
      only what belongs to <code>{project.name}</code></label
    >{/if}
  <form
    class="ml-auto flex items-center gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      setParam("path", new FormData(e.currentTarget).get("path")?.toString() ?? "");
    }}
  >
    <input
      name="path"
      class="w-60 rounded-control border border-line bg-sheet px-2.5 py-1"
      placeholder="a file, or a directory/"
      aria-label="File or directory"
      value={path}
    />
    <button class="control">What it reaches</button>
  </form>
</div>

{#if path}
  <section class="sheet mb-4.5 px-4.5 py-3" aria-label="Reach">
    {#if reached.trouble}<p>{reached.trouble}</p>
    {:else if reached.data}
      <h2 class="text-base font-semibold">
        <code>{path}</code> reaches {counted(reached.data.tasks.length, "task")} in {counted(
          reached.data.projects.length,
          "project",
        )}
      </h2>
      {#if reached.data.tasks.length === 0}<p class="text-soft">
          No task reads it, according to the declarations.
        </p>{/if}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="max-h-64 overflow-auto" tabindex="0" role="region" aria-label="Tasks that it reaches">
        {#each reached.data.tasks as t (t.task)}<div class="flex flex-wrap gap-x-4 border-t border-hair py-1">
            <a href={p("/tasks/:task", { params: { task: t.task } })}><code>{t.task}</code></a><span class="small"
              >{t.why}</span
            >
          </div>{/each}
      </div>
    {/if}
    <button class="mt-1 text-copper underline" onclick={() => setParam("path", "")}>close</button>
  </section>
{/if}

{#if loader.trouble && !loader.data}
  <Notice
    title="The projects could not be loaded"
    text={loader.trouble}
    action="Try again"
    onaction={() => loader.ask(load)}
  />
{:else if !loader.data}
  <div class="sheet h-96 animate-pulse motion-reduce:animate-none" aria-busy="true" aria-label="Loading"></div>
{:else if all.length === 0}
  <Notice
    title="No declarations are recorded yet"
    text="A run that is recorded brings the declarations of its repository along."
    command="grayloft run build"
  />
{:else}
  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4.5 {project ? 'lg:grid-cols-[minmax(0,1fr)_340px]' : ''}">
    <section class="sheet overflow-hidden" aria-label={view === "graph" ? "Graph of projects" : "List of projects"}>
      {#if shown.length === 0}<p class="px-4.5 py-6 text-soft">No project matches.</p>
      {:else if view === "graph"}
        {#await import("../lib/ProjectGraph.svelte")}
          <p class="h-[60vh] px-4.5 py-6 small" aria-busy="true">loading the graph…</p>
        {:then { default: ProjectGraph }}
          <ProjectGraph {nodes} {picked} onpick={pick} />
          <p class="border-t border-hair px-4.5 py-2 small">
            {#if nodes.length > 120}This is a part of {many(nodes.length)} projects; the map shows where. Drag and zoom, search,
              choose a project and show only what belongs to it, or show directories as one.{/if}
            A project is left of those that it needs. Red: a task of it failed in the last 30 days. Tab goes from project
            to project, Enter opens one.
          </p>
        {:catch}
          <p class="px-4.5 py-6">The graph could not be loaded. Load the page again, or use the list.</p>
        {/await}
      {:else}
        <div class="overflow-x-auto">
          <table class="w-full border-collapse">
            <thead class="text-left text-[12.5px] text-soft"
              ><tr class="[&>th]:px-3 [&>th]:py-2 [&>th]:font-medium [&>th:first-child]:pl-4.5"
                ><th>Project</th><th class="max-sm:hidden">Directory</th><th class="max-md:hidden">Needs</th><th
                  class="max-md:hidden">Owner</th
                ><th class="text-right">Tasks</th><th class="text-right max-sm:hidden">Failed, 30 days</th></tr
              ></thead
            >
            <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
            <tbody onkeydown={rowKeys}>
              {#each shown as x, i (x.name)}
                <tr
                  data-row={i}
                  tabindex="0"
                  class="cursor-pointer border-t border-hair hover:bg-paper focus-visible:outline-offset-[-2px] [&>td]:px-3 [&>td]:py-1.5 [&>td:first-child]:pl-4.5 {x.name ===
                  picked
                    ? 'bg-wash'
                    : ''}"
                  onclick={() => pick(x.name)}
                >
                  <td><code>{x.name}</code></td><td class="small max-sm:hidden">{x.dir}</td><td
                    class="small max-md:hidden">{x.needs.join(", ") || "–"}</td
                  ><td class="small max-md:hidden">{x.owner || "–"}</td><td class="text-right">{x.tasks.length}</td><td
                    class="text-right max-sm:hidden {x.failed ? 'text-failed' : ''}">{x.failed || "–"}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      {/if}
    </section>
    {#if project}
      <section class="sheet px-4.5 py-3.5" aria-label="The selected project">
        <div class="flex items-baseline gap-2">
          <h2 class="font-mono text-sm font-semibold break-all">{project.name}</h2>
          <button class="ml-auto text-copper underline" onclick={() => setParam("project", "")}>close</button>
        </div>
        <p class="small">
          <code>{project.dir}</code>{project.owner ? ` · ${project.owner}` : ""}{project.tags.length
            ? ` · ${project.tags.join(", ")}`
            : ""} · declared in
          <code class="select-all">{project.at}</code>
        </p>
        {#each [{ name: "Needs", direct: project.needs, all: needs }, { name: "Needed by", direct: all
              .filter((x) => x.needs.includes(project.name))
              .map((x) => x.name), all: neededBy }] as g (g.name)}
          <p class="mt-2">
            <span class="small">{g.name}</span>
            {#each g.direct as n (n)}<button class="mr-2 text-copper underline" onclick={() => setParam("project", n)}
                ><code>{n}</code></button
              >{/each}
            {#if g.direct.length === 0}<span class="small">nothing</span>{:else if g.all.size > g.direct.length}<span
                class="small">{g.all.size} in total</span
              >{/if}
          </p>
        {/each}
        <h3 class="mt-3 small">Tasks</h3>
        {#each project.tasks as t (t.name)}
          {@const command = `grayloft run ${t.name}@${project.name}`}
          <div class="border-t border-hair py-1.5">
            <div class="flex items-baseline gap-2">
              <a href={p("/tasks/:task", { params: { task: `${t.name}@${project.name}` } })}><code>{t.name}</code></a>
              <span class="min-w-0 flex-1 truncate small">{t.help || t.command}</span>
              <button class="control" aria-label="Copy {command}" onclick={() => copy(command)}
                >{copied === command ? "Copied" : "Copy"}</button
              >
            </div>
          </div>
        {/each}
      </section>
    {/if}
  </div>
{/if}
