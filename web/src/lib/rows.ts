/** Moves the focus among the rows of a table: arrows, Home and End move, Enter
 * opens, Escape leaves the row. Rows have data-row. */
export function rowKeys(e: KeyboardEvent) {
  const row = (e.target as HTMLElement).closest<HTMLElement>("[data-row]");
  if (!row || e.target !== row) return;
  const rows = [...(row.parentElement?.querySelectorAll<HTMLElement>("[data-row]") ?? [])];
  const at = rows.indexOf(row);
  const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: rows.length - 1 }[e.key];
  if (to !== undefined) {
    e.preventDefault();
    rows[to]?.focus();
  } else if (e.key === "Enter") {
    (row.querySelector<HTMLElement>("a[href]") ?? row).click();
  } else if (e.key === "Escape") {
    e.stopPropagation();
    row.blur();
  }
}

/** Copies a table as tab-separated values. A spreadsheet takes a cell that begins with one of
 * these characters for a formula, so it gets an apostrophe. */
export async function copyTable(head: string[], lines: (string | number | boolean | null)[][]) {
  const cell = (v: string | number | boolean | null) => {
    const text = String(v ?? "").replace(/[\t\r\n]/g, " ");
    return typeof v === "string" && /^[=@+-]/.test(text) ? `'${text}` : text;
  };
  await navigator.clipboard.writeText([head, ...lines].map((l) => l.map(cell).join("\t")).join("\n"));
}
