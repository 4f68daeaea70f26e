import { expect, test } from "vitest";
import type { NodeListed } from "../../api/types";
import { isWrong, stateOf, versionsApart } from "./nodes.model";

const node = (more: Partial<NodeListed>): NodeListed => ({
  name: "bank-1",
  slot: 1,
  epoch: 3,
  beat: 70,
  alive: true,
  version: "0.1.0",
  draining: false,
  duties: [],
  looked_ms: 120,
  server: "db-1",
  url: "",
  answers: false,
  ...more,
});

test("a node that does not beat is wrong, and one that stopped is not", () => {
  expect(stateOf(node({}))).toBe("lives");
  expect(stateOf(node({ draining: true }))).toBe("drained");
  expect(stateOf(node({ draining: true, still_s: 4 }))).toBe("no beat for 4 s");
  expect(stateOf(node({ alive: false, still_s: 4 }))).toBe("stopped");
  expect([node({ still_s: 4 }), node({ alive: false, still_s: 4 }), node({})].map(isWrong)).toEqual([
    true,
    false,
    false,
  ]);
});

test("versions are named where nodes that live run several", () => {
  expect(versionsApart([node({}), node({ alive: false, version: "0.0.9" })])).toEqual([]);
  expect(versionsApart([node({ version: "0.2.0" }), node({})])).toEqual(["0.1.0", "0.2.0"]);
});
