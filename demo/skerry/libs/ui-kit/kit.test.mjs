import assert from "node:assert/strict";
import test from "node:test";
import { badge, boat, table } from "./src/kit.mjs";

test("text is escaped", () => assert.equal(badge("<b>"), '<span class="badge">&lt;b&gt;</span>'));
test("a boat has a name", () => assert.match(boat("Kittiwake"), /Kittiwake/));
test("a table has its rows", () => assert.equal(table([["a"], ["b"]]).match(/<tr>/g).length, 2));
