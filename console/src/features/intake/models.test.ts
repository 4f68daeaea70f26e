import { describe, expect, it } from "vitest";
import type { Arrival } from "../../api/types";
import { folded, hoursBack, notes } from "./arrivals.model";
import { allowed, draftOf, limitsOf, NO_LIMITS } from "./keys.model";
import { number } from "../../ui/number";
import { actOf } from "./transforms.model";

const arrival: Arrival = {
  service: "slots",
  host: "slots-1",
  sender: "slots-prod",
  lane: "main",
  stored: 10,
  late: 1,
  untimed: 0,
  bytes: 900,
  first: "2026-10-04T00:00:00Z",
  last: "2026-10-04T02:00:00Z",
  clock_ahead_ms: 0,
  silent: true,
  per_hour: [4, 6],
};

describe("arrivals", () => {
  it.each([
    ["24h", 24],
    ["8d", 192],
    ["1h", 1],
    [null, 24],
    ["", 24],
    ["9d", 24],
    ["0h", 24],
    ["1.5h", 24],
    ["many", 24],
  ])("back %s", (text, hours) => expect(hoursBack(text)).toBe(hours));

  it("of the hosts of one service stand in one row", () => {
    const other = { ...arrival, host: "slots-2", silent: false, last: "2026-10-04T03:00:00Z", per_hour: [1, 1] };
    const [row, beside] = folded([arrival, other, { ...arrival, service: "edge", host: "edge-1" }]);
    expect(row).toMatchObject({ host: "2 hosts", stored: 20, late: 2, silent: false, per_hour: [5, 7] });
    expect(row?.last).toBe("2026-10-04T03:00:00Z");
    expect(beside).toMatchObject({ service: "edge", host: "edge-1" });
  });

  it("name what is odd", () => {
    expect(notes({ ...arrival, clock_ahead_ms: 2500, untimed: 3 })).toEqual([
      "fell silent",
      "clock 2.5 s ahead",
      "some without a time",
    ]);
  });
});

describe("limits of a key", () => {
  it("are read as they are typed", () => {
    const draft = { services: "slots, edge", lanes: "", rate: "2000", day: "x", old: "past", ends: "30" };
    expect(limitsOf(draft, Date.parse("2026-10-04T00:00:00Z"))).toMatchObject({
      services: ["slots", "edge"],
      lanes: [],
      per_second: 2000,
      day_events: undefined,
      past: true,
      until: "2026-11-03T00:00:00.000Z",
    });
  });
  it("keep what is not typed anew", () => {
    const before = { day_bytes: 5, past: true, until: "2026-12-01T00:00:00Z" };
    expect(limitsOf(draftOf(before), 0, before)).toMatchObject(before);
    expect(limitsOf(NO_LIMITS, 0, before)).toMatchObject({ past: undefined, until: undefined });
  });
  it("read as words", () => {
    expect(allowed({})).toBe("anything");
    expect(allowed({ past: true })).toBe("a past");
    expect(allowed({ services: ["slots"], per_second: 2000 })).toBe(`for slots; ${number(2000)} a second`);
  });
});

describe("what a transform rule does", () => {
  it.each([
    ["stamp", "region = north=east", { stamp: { region: "north=east" } }],
    ["rename", "txt message", { rename: { from: "txt", to: "message" } }],
    ["drop", "user.token, headers", { drop: ["user.token", "headers"] }],
    ["detect", "tokens, nonsense", { mask: { detectors: ["tokens"], hash: true } }],
    ["move", " audit ", { move: "audit" }],
    ["set-aside", "", "set-aside"],
  ])("%s %s", (kind, text, act) => expect(actOf(kind, text)).toEqual(act));
});
