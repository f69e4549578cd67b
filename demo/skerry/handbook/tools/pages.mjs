// Turns a few forms of Markdown into pages, and the tide tables into one more.
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";

const [, , from, tables, to] = process.argv;
const escape = (s) => s.replace(/&/g, "&amp;").replace(/</g, "&lt;");
const html = (md) => md.split(/\n{2,}/).map((block) => {
  if (block.startsWith("# ")) return `<h1>${escape(block.slice(2))}</h1>`;
  if (block.startsWith("- ")) return `<ul>${block.trim().split("\n").map((l) => `<li>${escape(l.slice(2))}</li>`).join("")}</ul>`;
  return `<p>${escape(block.trim())}</p>`;
}).join("\n");

mkdirSync(to, { recursive: true });
for (const file of readdirSync(from)) writeFileSync(`${to}/${file.replace(".md", ".html")}`, html(readFileSync(`${from}/${file}`, "utf8")) + "\n");
const rows = readFileSync(tables, "utf8").trim().split("\n").map((l) => l.split(","));
writeFileSync(`${to}/tides.html`, `<table>${rows.slice(0, 400).map((r) => `<tr>${r.map((c) => `<td>${c}</td>`).join("")}</tr>`).join("\n")}</table>\n`);
console.log(`${readdirSync(from).length + 1} pages, ${rows.length} waters`);
