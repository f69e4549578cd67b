import assert from "node:assert/strict";
import test from "node:test";
import { createRequire } from "node:module";

const { board } = createRequire(import.meta.url)("./dist/app.js");
test("ports have their titles", () => {
  assert.match(board([{ route: "gullhaven", hour: 7, full: false }]), /Gull Haven/);
});
