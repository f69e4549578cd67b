import { createRouter } from "sv-router";
import Missing from "../pages/Missing.svelte";
import Run from "../pages/Run.svelte";
import Runs from "../pages/Runs.svelte";

export const { p, navigate, isActive, route } = createRouter({
  "/": Runs,
  "/runs/:id": Run,
  "*": Missing,
});
