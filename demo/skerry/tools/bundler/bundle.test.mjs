import assert from "node:assert/strict";
import test from "node:test";
import { mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { bundle } from "./bundle.mjs";

test("modules are put together in the order of their imports", () => {
  const dir = mkdtempSync(join(tmpdir(), "bundle-"));
  writeFileSync(join(dir, "a.mjs"), 'import { b } from "./b.mjs";\nexport const a = b + 1;\n');
  writeFileSync(join(dir, "b.mjs"), "export const b = 41;\n");
  const { code, files } = bundle(join(dir, "a.mjs"));
  const module = {};
  new Function("module", code)(module);
  assert.equal(module.exports.a, 42);
  assert.deepEqual(files, ["a.mjs", "b.mjs"]);
});
