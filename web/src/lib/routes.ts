import { createRouter } from "sv-router";
import Missing from "../pages/Missing.svelte";

// Pages are loaded when they are opened.
export const { p, navigate, isActive, route } = createRouter({
  "/": () => import("../pages/Runs.svelte"),
  "/runs/:id": () => import("../pages/Run.svelte"),
  "/compare": () => import("../pages/Compare.svelte"),
  "/tasks": () => import("../pages/Tasks.svelte"),
  "/tasks/:task": () => import("../pages/Task.svelte"),
  "/advice": () => import("../pages/Advice.svelte"),
  "/projects": () => import("../pages/Projects.svelte"),
  "/cache": () => import("../pages/Cache.svelte"),
  "/cache/:key": () => import("../pages/Entry.svelte"),
  "/fleet": () => import("../pages/Fleet.svelte"),
  "/fleet/:id": () => import("../pages/Request.svelte"),
  "/access": () => import("../pages/Access.svelte"),
  "*": Missing,
});
