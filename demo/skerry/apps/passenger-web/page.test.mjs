import assert from "node:assert/strict";
import test from "node:test";
import { createRequire } from "node:module";

const { page } = createRequire(import.meta.url)("./dist/app.js");
test("a booking shows its fare", () => {
  const html = page({ id: "k7", route: "eelport", adults: 2, young: 0, paid: true });
  assert.match(html, /£34\.4/);
});
test("nonsense is said to be so", () => assert.match(page({}), /cannot be read/));
