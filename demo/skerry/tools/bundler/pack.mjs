// Packs files and directories into one file: for each a line with its length
// and its path, then its bytes.
import { mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

const [, , out, ...from] = process.argv;
const parts = [];
const add = (path) => {
  if (statSync(path).isDirectory()) {
    for (const name of readdirSync(path).sort()) add(join(path, name));
    return;
  }
  const data = readFileSync(path);
  parts.push(Buffer.from(`${data.length} ${path}\n`), data);
};
from.forEach(add);
mkdirSync(dirname(out), { recursive: true });
const all = Buffer.concat(parts);
writeFileSync(out, all);
console.log(`packed ${parts.length / 2} files, ${all.length} bytes`);
