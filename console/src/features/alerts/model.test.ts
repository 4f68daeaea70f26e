import { expect, it } from "vitest";
import type { Alert } from "../../api/types";
import { difference, evidence, groupsOf, named, raisedFor, recipient, stateOf, triesOf } from "./model";

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
  expect(stateOf({ ended: "x", withdrawn: true, closed: null })).toBe("withdrawn");
  expect(stateOf({ ended: "x", withdrawn: false, closed: "rule changed" })).toBe("rule changed");
  const state = (ended: string | null) => stateOf({ ended, withdrawn: false, closed: null });
  expect([state("x"), state(null)]).toEqual(["quiet again", "raised"]);
});

it("groups are named once, the first few of them", () => {
  const group = (name: string) => ({ name, raised: "", ended: null, peak: null, withdrawn: false, muted: false });
  expect(groupsOf({ groups: [group("")], group_count: 1 })).toBe("");
  expect(groupsOf({ groups: ["a", "b", "a"].map(group), group_count: 3 })).toBe("a, b");
  expect(groupsOf({ groups: [..."abcdefgh"].map(group), group_count: 60 })).toBe("a, b, c, d, e, f and 54 more");
});

it("the link of a message finds its alert", () => {
  const ended = "2026-10-04T02:20:00Z";
  const alerts = [{ ...alert, ended, id: 7, rule: "leases" }] as unknown as Alert[];
  expect(named(alerts, "leases", "2026-10-04T02:15:00.000Z")?.id).toBe(7);
  // It moved since the message was made.
  expect(named(alerts, "leases", "2026-10-04T02:15:30Z")?.id).toBe(7);
  expect(named(alerts, "leases", "2026-10-04T02:14:59Z")).toBeUndefined();
  expect(named(alerts, null, "2026-10-04T02:15:00Z")).toBeUndefined();
});

it("a message shows whom it was for and how often it was tried", () => {
  expect(recipient({ contact: "", target: "a@fennmark.test" })).toBe("a@fennmark.test");
  const tries = (errors: string[]) => triesOf({ tries: errors.map((error) => ({ at: "", error })) });
  expect([tries([""]), tries(["refused", ""]), tries(["x", "y"])]).toEqual(["", "a try failed", "2 tries failed"]);
});
