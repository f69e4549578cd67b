// Turns schema/*.wire into gen/wire.go and gen/wire.mjs.
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs";

const [, , from, to] = process.argv;
const goType = { text: "string", number: "int", truth: "bool" };
const check = { text: "string", number: "number", truth: "boolean" };
const messages = [];
for (const file of readdirSync(from).sort()) {
  let at = 0;
  for (const raw of readFileSync(`${from}/${file}`, "utf8").split("\n")) {
    at++;
    const line = raw.replace(/#.*/, "").trimEnd();
    if (!line) continue;
    const head = line.match(/^message (\w+)$/);
    const field = line.match(/^  (\w+) (\w+)$/);
    if (head) messages.push({ name: head[1], fields: [] });
    else if (field && goType[field[2]] && messages.length) messages.at(-1).fields.push(field.slice(1));
    else {
      console.error(`${from}/${file}:${at}: cannot read "${line}"`);
      process.exit(1);
    }
  }
}
const title = (s) => s[0].toUpperCase() + s.slice(1);
const go = messages.map(
  (m) => `// ${m.name} travels between services.\ntype ${m.name} struct {\n` +
    m.fields.map(([n, t]) => `\t${title(n)} ${goType[t]} \`json:"${n}"\`\n`).join("") + "}\n",
);
const js = messages.map(
  (m) => `export const is${m.name} = (v) =>\n  ` + m.fields.map(([n, t]) => `typeof v.${n} === "${check[t]}"`).join(" &&\n  ") + ";\n",
);
mkdirSync(to, { recursive: true });
writeFileSync(`${to}/wire.go`, "// Package wire is generated from the schema.\npackage wire\n\n" + go.join("\n"));
writeFileSync(`${to}/wire.mjs`, "// Generated from the schema.\n" + js.join("\n"));
console.log(`${messages.length} messages`);
