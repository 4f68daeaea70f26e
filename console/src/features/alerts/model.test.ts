import { expect, it } from "vitest";
import { difference, evidence, groupsOf, raisedFor, stateOf } from "./model";

const alert = { query: "service=slots", window_s: 300, raised: "2026-10-04T02:15:00Z" };

it("the evidence begins a window before the alert", () => {
  expect(evidence({ ...alert, ended: "2026-10-04T02:45:00Z" })).toBe(
    "/search?q=service%3Dslots&from=2026-10-04T02%3A10%3A00Z&to=2026-10-04T02%3A45%3A00Z",
  );
  // One that is still raised goes on to now, which is what the address means without an end.
  expect(evidence({ ...alert, ended: null })).toBe("/search?q=service%3Dslots&from=2026-10-04T02%3A10%3A00Z");
});

it("an alert lasts to its end, or until now", () => {
  expect(raisedFor({ ...alert, ended: "2026-10-04T02:45:00Z" }, 0)).toBe(1800);
  expect(raisedFor(alert, Date.parse("2026-10-04T02:16:00Z"))).toBe(60);
});

it("what is different is asked of every event while it was raised", () => {
  expect(difference({ ...alert, ended: "2026-10-04T02:45:00Z" })).toBe(
    "/compare?from=2026-10-04T02%3A10%3A00Z&to=2026-10-04T02%3A45%3A00Z",
  );
});

it("an alert that late events undid is withdrawn", () => {
  expect(stateOf({ ended: "x", withdrawn: true })).toBe("withdrawn");
  expect([stateOf({ ended: "x", withdrawn: false }), stateOf({ ended: null, withdrawn: false })]).toEqual([
    "quiet again",
    "raised",
  ]);
});

it("groups are named once, the first few of them", () => {
  const group = (name: string) => ({ name, raised: "", ended: null, peak: null, withdrawn: false });
  expect(groupsOf({ groups: [group("")], group_count: 1 })).toBe("");
  expect(groupsOf({ groups: ["a", "b", "a"].map(group), group_count: 3 })).toBe("a, b");
  expect(groupsOf({ groups: [..."abcdefgh"].map(group), group_count: 60 })).toBe("a, b, c, d, e, f and 54 more");
});
