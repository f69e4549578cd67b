// Checks ports/*.json and gathers them by name.
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";

const all = {};
for (const file of readdirSync("ports").sort()) {
  const port = JSON.parse(readFileSync(`ports/${file}`, "utf8"));
  for (const [key, type] of Object.entries({ title: "string", berths: "number", depth: "number" })) {
    if (typeof port[key] !== type) {
      console.error(`ports/${file}: "${key}" has to be a ${type}`);
      process.exit(1);
    }
  }
  all[file.replace(".json", "")] = port;
}
mkdirSync("dist", { recursive: true });
writeFileSync("dist/ports.json", JSON.stringify(all, null, 1) + "\n");
console.log(`${Object.keys(all).length} ports`);
