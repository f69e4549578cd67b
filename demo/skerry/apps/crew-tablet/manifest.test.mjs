import assert from "node:assert/strict";
import test from "node:test";
import { createRequire } from "node:module";

const { manifest } = createRequire(import.meta.url)("./dist/app.js");
test("sailings are listed", () => {
  assert.match(manifest([{ route: "eelport", hour: 9, full: true }]), /9:00.*full/);
});
