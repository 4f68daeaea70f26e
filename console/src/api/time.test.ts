import { describe, expect, it } from "vitest";
import { ago, clock, exact, exactShort, formatNs, parseNs, span, within } from "./time";

describe("times keep their nanoseconds", () => {
  it.each([
    ["2026-10-04T02:38:41.198204331Z", 1_791_081_521_198_204_331n],
    ["2026-10-04T02:38:41Z", 1_791_081_521_000_000_000n],
    ["1969-12-31T23:59:59.5Z", -500_000_000n],
    ["1969-12-31T23:59:59.999999999Z", -1n],
  ])("%s", (text, ns) => {
    expect(parseNs(text)).toBe(ns);
    expect(formatNs(ns)).toBe(text);
  });

  it("a text that is no time does not throw", () => {
    expect(parseNs("soonish")).toBe(0n);
    expect(parseNs("")).toBe(0n);
  });

  it("digits beyond the ninth are left out", () => {
    expect(parseNs("2026-10-04T02:38:41.1982043319Z")).toBe(1_791_081_521_198_204_331n);
  });
});

describe("times as people read them", () => {
  const ns = parseNs("2026-10-04T02:38:41.198204331Z");
  it("by clock, as short as asked", () => {
    expect(clock(ns, "utc")).toBe("02:38:41.198");
    expect(clock(ns, "utc", 0)).toBe("02:38:41");
  });
  it("whole, in groups", () => expect(exact(ns, "utc")).toBe("2026-10-04 02:38:41.198 204 331 UTC"));
  it("short, but never less than it is", () => {
    expect(exactShort(ns, "utc")).toBe("2026-10-04 02:38:41.198204331");
    expect(exactShort(parseNs("2026-10-04T02:38:41Z"), "utc")).toBe("2026-10-04 02:38:41");
    expect(exactShort(parseNs("2026-10-04T02:38:00Z"), "utc")).toBe("2026-10-04 02:38");
    expect(exactShort(parseNs("2026-10-04T02:38:00.5Z"), "utc")).toBe("2026-10-04 02:38:00.5");
  });
  it("from now, back and ahead", () => {
    const nowMs = Number(ns / 1_000_000n);
    expect(ago(ns - 10_800_000_000_000n, nowMs)).toBe("3 h ago");
    expect(ago(ns + 120_000_000_000n, nowMs)).toBe("in 2 min");
  });
  it.each([
    [0.25, "250 ms"],
    [1.26, "1.3 s"],
    [45, "45 s"],
    [600, "10 min"],
    [7200, "2 h"],
    [86_400 * 3, "3 days"],
  ])("%d seconds are %s", (seconds, text) => expect(span(seconds)).toBe(text));
});

describe("moments of a range", () => {
  const at = parseNs("2026-10-04T02:38:41.5Z");
  it("have seconds over an hour, and the day over days", () => {
    expect(within(at, "utc", { from: "2026-10-04T02:00:00Z", to: "2026-10-04T03:00:00Z" })).toBe("02:38:41");
    expect(within(at, "utc", { from: "2026-10-01T00:00:00Z", to: "2026-10-05T00:00:00Z" })).toBe("10-04 02:38");
  });
});
