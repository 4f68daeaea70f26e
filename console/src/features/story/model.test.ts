import { describe, expect, it } from "vitest";
import type { LogEvent, Score } from "../../api/types";
import { beside, columnsAt, duration, EVERYTHING, extent, FOLD, placed, remarks, ROW, timeWent } from "./model";

const event = (service: string, severity: LogEvent["severity"], message: string): LogEvent => ({
  id: "1-1-1-0",
  time: "2026-10-04T02:10:00Z",
  arrived: "2026-10-04T02:11:00Z",
  severity,
  severity_number: 9,
  kind: "log",
  lane: "main",
  sender: "slots-prod",
  service,
  message,
  fields: {},
});
const events = [
  event("edge", "info", "POST /drop-offs"),
  event("slots", "info", "lease"),
  event("slots", "warn", "lease ran out"),
];
const score: Score = {
  headline: "",
  outcome: "failed",
  took_ns: 31e9,
  columns: [
    { services: ["edge"], bars: 1, events: 0, slots: 1 },
    { services: ["slots"], bars: 1, events: 1, slots: 2 },
  ],
  rows: [
    { kind: "start", at_ns: 0, column: 0, bar: 0, event: 0 },
    { kind: "start", at_ns: 5e6, column: 1, bar: 1, event: 1 },
    { kind: "event", at_ns: 30e9, column: 1, bar: 1, event: 2, fold_ns: 29e9 },
    { kind: "end", at_ns: 31e9, column: 0, bar: 0, event: 0 },
  ],
  bars: [
    {
      column: 0,
      slot: 0,
      from_row: 0,
      to_row: 3,
      event: 0,
      operation: "POST /drop-offs",
      outcome: "failed",
      took_ns: 31e9,
      self_ns: 1e9,
      critical: true,
    },
    {
      column: 1,
      slot: 0,
      from_row: 1,
      to_row: 2,
      event: 1,
      parent: 0,
      operation: "lease",
      outcome: "open",
      self_ns: 1,
      critical: true,
    },
  ],
  arrows: [],
  clock_offsets: [
    { host: "slots-3", behind_ns: 40e6 },
    { host: "bk-017", behind_ns: -2e9 },
    { host: "x", behind_ns: 0, contradicts: true },
  ],
  critical_path: [
    { service: "slots", self_ns: 22, share: 0.71 },
    { service: "edge", self_ns: 8, share: 0.27 },
    { service: "codes", self_ns: 1, share: 0.02 },
  ],
  not_drawn: 7,
};

describe("rows", () => {
  it("stand level, with room for what is folded", () => {
    const { rows, height } = placed(score, events, EVERYTHING);
    expect(rows.map((r) => r.y)).toEqual([ROW / 2, ROW * 1.5, ROW * 2.5 + FOLD, ROW * 3.5 + FOLD]);
    expect(rows[2]?.foldY).toBe(ROW * 2 + FOLD / 2);
    expect(height).toBe(ROW * 4 + FOLD);
  });
  it("are filtered by service, by badness and by words", () => {
    const shown = (filter: object) => placed(score, events, { ...EVERYTHING, ...filter }).rows.map((r) => r.index);
    expect(shown({ service: "slots" })).toEqual([1, 2]);
    expect(shown({ bad: true })).toEqual([0, 2, 3]);
    expect(shown({ words: " RAN out" })).toEqual([2]);
    expect(shown({ words: "nothing" })).toEqual([]);
  });
});

describe("bars", () => {
  it("reach from their first shown row to their last", () => {
    const all = placed(score, events, EVERYTHING).rows;
    expect(extent(score.bars[0]!, all)).toEqual({ from: 4, to: ROW * 4 + FOLD - 6 });
    const some = placed(score, events, { ...EVERYTHING, service: "slots" }).rows;
    expect(extent(score.bars[0]!, some)).toEqual({ from: 4, to: ROW * 2 + FOLD - 6 });
    expect(extent(score.bars[1]!, [])).toBeUndefined();
  });
  it("are named beside their first row", () => {
    expect(beside(score.rows[0]!, score, events)).toEqual({ text: "POST /drop-offs", note: "31.0 s, failed" });
    expect(beside(score.rows[1]!, score, events)).toEqual({ text: "lease", note: "not ended" });
    expect(beside(score.rows[2]!, score, events).text).toBe("lease ran out");
    expect(beside(score.rows[3]!, score, events).text).toBe("POST /drop-offs failed");
  });
});

it("columns share the width there is, and are slim on a phone", () => {
  const wide = columnsAt(score, 600, false);
  expect(wide.xs[0]).toBeLessThan(wide.xs[1]!);
  expect(wide.width).toBeLessThanOrEqual(600);
  expect(columnsAt(score, 600, true).width).toBeLessThan(50);
});

it("what a reader must know is in words", () => {
  expect(remarks(score)).toEqual([
    "slots-3 is at least 40 ms behind, corrected here.",
    "bk-017 is at least 2.0 s ahead, corrected here.",
    "The clock of x contradicts itself; its times are shown as sent.",
    "7 more spans and events are not drawn.",
  ]);
  expect(timeWent(score)).toBe("slots 71 %, edge 27 %");
});

it.each([
  [9_400_000, "9.4 ms"],
  [31_200_000_000, "31.2 s"],
  [250_000_000_000, "4 m 10 s"],
  [12_000_000_000_000, "3 h 20 m"],
  [440_000_000_000_000, "5 d 2 h"],
])("%d ns", (ns, text) => expect(duration(ns)).toBe(text));
