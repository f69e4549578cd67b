import assert from "node:assert/strict";
import test from "node:test";
import { area, ferry, quay } from "./src/shapes.mjs";

test("a square of two has an area of four", () => {
  assert.equal(area([[0, 0], [2, 0], [2, 2], [0, 2]]), 4);
});
test("outlines are closed", () => {
  assert.match(ferry(40, 10), /Z$/);
  assert.match(quay(60), /Z$/);
});
