// Parts of pages, as strings of HTML.
import { ferry } from "../../shapes/src/shapes.mjs";

const entities = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" };
export const text = (s) => String(s).replace(/[&<>"]/g, (c) => entities[c]);
export const badge = (label) => `<span class="badge">${text(label)}</span>`;
export const boat = (name) =>
  `<figure><svg viewBox="0 0 40 10"><path d="${ferry(40, 10)}"/></svg><figcaption>${text(name)}</figcaption></figure>`;
export const table = (rows) =>
  `<table>${rows.map((r) => `<tr>${r.map((c) => `<td>${text(c)}</td>`).join("")}</tr>`).join("")}</table>`;
