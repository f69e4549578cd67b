// Makes up a chart of the given number of megabytes, the same every time.
import { writeFileSync } from "node:fs";

const [, , file, megabytes] = process.argv;
const out = Buffer.alloc(Number(megabytes) * 1_000_000);
let seed = 20200101;
for (let i = 0; i < out.length; i++) {
  seed = (Math.imul(seed, 1664525) + 1013904223) >>> 0;
  out[i] = seed >>> 24;
}
writeFileSync(file, out);
