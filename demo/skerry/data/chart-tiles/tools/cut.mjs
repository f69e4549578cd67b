// Cuts a chart into 64 tiles.
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";

const [, , from, to] = process.argv;
const chart = readFileSync(from);
const tile = Math.ceil(chart.length / 64);
mkdirSync(to, { recursive: true });
for (let i = 0; i * tile < chart.length; i++) {
  writeFileSync(`${to}/tile-${String(i).padStart(2, "0")}.bin`, chart.subarray(i * tile, (i + 1) * tile));
}
console.log(`${Math.ceil(chart.length / tile)} tiles of ${tile} bytes`);
