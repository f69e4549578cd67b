// Gathers rates/*.csv into one JSON file. Lines that begin with # are comments.
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { dirname } from "node:path";

const out = process.argv[process.argv.indexOf("--out") + 1];
const seasons = {};
for (const file of readdirSync("rates").filter((f) => f.endsWith(".csv")).sort()) {
  const routes = {};
  for (const line of readFileSync(`rates/${file}`, "utf8").split("\n")) {
    if (!line || line.startsWith("#")) continue;
    const [route, pence] = line.split(",");
    if (!/^\d+$/.test(pence)) {
      console.error(`rates/${file}: "${line}": pence are whole numbers`);
      process.exit(1);
    }
    routes[route] = Number(pence);
  }
  seasons[file.replace(".csv", "")] = routes;
}
mkdirSync(dirname(out), { recursive: true });
writeFileSync(out, JSON.stringify(seasons, null, 2) + "\n");
console.log(`${Object.keys(seasons).length} seasons`);
