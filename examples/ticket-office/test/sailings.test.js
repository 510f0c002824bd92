import assert from "node:assert";
import { test } from "node:test";
import { sailings } from "../api/sailings.js";

test("the cheapest sailing comes first", () => {
  const fares = sailings().map(s => s.fare);
  assert.deepEqual(fares, [...fares].sort((a, b) => a - b));
});
