// Renders the colours of a terminal (ECMA-48, select graphic rendition) as
// classes. Everything else that a terminal would obey is left out, and the text
// is only ever set as text.

export type Span = { text: string; style: string };

const names = ["black", "red", "green", "yellow", "blue", "magenta", "cyan", "white"];

/** Splits one line into spans of one style each. */
export function spans(line: string): Span[] {
  const out: Span[] = [];
  let style = "";
  let bold = false;
  let colour = "";
  let at = 0;
  const add = (text: string) => {
    // eslint-disable-next-line no-control-regex
    const clean = text.replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f]/g, "");
    if (clean) out.push({ text: clean, style });
  };
  // Control sequences, operating system commands, and other escapes.
  // eslint-disable-next-line no-control-regex
  const escape = /\u001b\[([0-9;:]*)([@-~])|\u001b\][^\u0007\u001b]*(?:\u0007|\u001b\\)|\u001b./g;
  for (const m of line.matchAll(escape)) {
    add(line.slice(at, m.index));
    at = m.index + m[0].length;
    if (m[2] !== "m") continue;
    const codes = m[1].split(/[;:]/).map(Number);
    for (let i = 0; i < codes.length; i++) {
      const c = codes[i];
      if (c === 0) [bold, colour] = [false, ""];
      else if (c === 1) bold = true;
      else if (c === 22) bold = false;
      else if (c === 39) colour = "";
      else if (c === 38 || c === 48)
        i += codes[i + 1] === 5 ? 2 : 4; // other palettes keep the plain colour
      else if (c >= 30 && c <= 37) colour = names[c - 30];
      else if (c >= 90 && c <= 97) colour = names[c - 90];
    }
    style = [bold ? "font-semibold" : "", colour ? `ansi-${colour}` : ""].filter(Boolean).join(" ");
  }
  add(line.slice(at));
  return out;
}
