import { describe, expect, it } from "vitest";
import { boxOf, placeOf, ticks, timeAt, type Axis } from "./scale";

const MINUTE = 60_000_000_000n;
const axis: Axis = { fromNs: 0n, toNs: 60n * MINUTE, length: 600, newestFirst: false };

describe("the spine's axis", () => {
  it("runs down the page from either end", () => {
    expect(placeOf(axis, 15n * MINUTE)).toBe(150);
    expect(placeOf({ ...axis, newestFirst: true }, 15n * MINUTE)).toBe(450);
  });
  it("keeps what lies outside at its ends", () => {
    expect(placeOf(axis, -5n * MINUTE)).toBe(0);
    expect(placeOf(axis, 90n * MINUTE)).toBe(600);
    expect(timeAt(axis, -20)).toBe(0n);
    expect(timeAt(axis, 9000)).toBe(60n * MINUTE);
  });
  it.each([true, false])("leads back to the time it came from, newest first %s", (newestFirst) => {
    for (const minute of [0n, 1n, 17n, 59n, 60n]) {
      const ns = minute * MINUTE;
      expect(timeAt({ ...axis, newestFirst }, placeOf({ ...axis, newestFirst }, ns))).toBe(ns);
    }
  });
  it("of no length does not divide by nothing", () => {
    expect(placeOf({ ...axis, toNs: 0n }, 0n)).toBe(0);
    expect(ticks({ ...axis, toNs: 0n }, 40)).toEqual([]);
  });
});

describe("labels", () => {
  it("stand at round times, with room between them", () => {
    const at = ticks(axis, 60);
    expect(at.map((ns) => Number(ns / MINUTE))).toEqual([10, 20, 30, 40, 50]);
  });
  it.each([1n, 1000n, 86_400n * 400n])("are few over %d minutes", (minutes) => {
    const at = ticks({ ...axis, toNs: minutes * MINUTE }, 60);
    expect(at.length).toBeLessThan(100);
    const places = at.map((ns) => placeOf({ ...axis, toNs: minutes * MINUTE }, ns));
    places.slice(1).forEach((place, n) => expect(place - places[n]!).toBeGreaterThanOrEqual(59));
  });
});

it("a stretch lies or stands", () => {
  expect(boxOf(true, 10, 20, 3, 4)).toEqual({ x: 10, y: 3, width: 20, height: 4 });
  expect(boxOf(false, 10, 20, 3, 4)).toEqual({ x: 3, y: 10, width: 4, height: 20 });
});
