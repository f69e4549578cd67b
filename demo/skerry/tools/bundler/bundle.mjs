// Puts a module and all that it imports into one script that also runs under
// require(). It knows named imports and exports of constants, and JSON.
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { dirname, relative, resolve } from "node:path";

export function bundle(entry) {
  const modules = new Map();
  const visit = (file) => {
    if (modules.has(file)) return;
    modules.set(file, null);
    const source = readFileSync(file, "utf8");
    if (file.endsWith(".json")) {
      modules.set(file, `exports.default = ${source.trim()};`);
      return;
    }
    const id = (target) => relative(dirname(entry), resolve(dirname(file), target));
    const code = source
      .replace(/^import (\w+) from "(\..+?)";$/gm, (_, name, target) => {
        visit(resolve(dirname(file), target));
        return `const ${name} = load(${JSON.stringify(id(target))}).default;`;
      })
      .replace(/^import \{([^}]+)\} from "(\..+?)";$/gm, (_, names, target) => {
        visit(resolve(dirname(file), target));
        return `const {${names}} = load(${JSON.stringify(id(target))});`;
      })
      .replace(/^export const (\w+)/gm, (_, name) => `const ${name} = exports.${name}`);
    modules.set(file, code);
  };
  const root = resolve(entry);
  entry = root;
  visit(root);
  const parts = [...modules].map(([file, code]) => `${JSON.stringify(relative(dirname(root), file))}(exports, load) {\n${code}\n}`);
  return {
    code: `"use strict";\n(() => {\nconst modules = {\n${parts.join(",\n")}\n};\nconst made = {};\n` +
      `const load = (id) => made[id] ?? (made[id] = {}, modules[id](made[id], load), made[id]);\n` +
      `const main = load(${JSON.stringify(relative(dirname(root), root))});\n` +
      `if (typeof module === "object") module.exports = main; else globalThis.app = main;\n})();\n`,
    files: [...modules.keys()].map((f) => relative(dirname(root), f)),
  };
}

if (process.argv[1]?.endsWith("bundle.mjs")) {
  const [, , entry, out] = process.argv;
  const { code, files } = bundle(entry);
  mkdirSync(dirname(out), { recursive: true });
  writeFileSync(out, code);
  writeFileSync(out.replace(/\.js$/, ".map.json"), JSON.stringify(files, null, 1) + "\n");
  console.log(`${files.length} modules, ${code.length} bytes`);
}
