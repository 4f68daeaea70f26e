import { describe, expect, it } from "vitest";
import type { LogEvent, MeasureAnswer } from "../../api/types";
import { palettes } from "../../app/tokens";
import { severityBins, stackedBins, stackNames } from "./bins";
import { figuresCsv } from "./download";
import { fieldName, textOf, typeOf, valueOf } from "./event";
import { figure } from "./figure";
import { asNdjson, asText } from "./picked";

const theme = palettes.night;
const event: LogEvent = {
  id: "1-1-7-3",
  time: "2026-10-04T02:38:41.198Z",
  arrived: "2026-10-04T02:38:41.3Z",
  severity: "warn",
  severity_number: 13,
  kind: "log",
  lane: "main",
  sender: "slots-prod",
  service: "slots",
  message: "lease LS-17 ran out",
  took_ns: 1_500_000,
  fields: { slot: { bank: "BK-017", door: 4 }, "http.status": 409, time: "odd", list: [1, 2], "a.b": { c: true } },
};

describe("values of an event", () => {
  it.each([
    ["service", "slots"],
    ["took", 1_500_000],
    ["slot.bank", "BK-017"],
    ["http.status", 409],
    [".time", "odd"],
    ["a.b.c", true],
    ["slot.none", undefined],
    ["slot.bank.deeper", undefined],
  ])("%s", (field, value) => expect(valueOf(event, field)).toBe(value));

  it("are named as a query names them", () => {
    expect(fieldName("slot.bank")).toBe("slot.bank");
    expect(fieldName("time")).toBe(".time");
    expect(fieldName("two words")).toBe("`two words`");
  });
  it("have the types that the catalogue shows", () => {
    expect([null, [1], 1, 1.5, "a", true, { a: 1 }].map((v) => typeOf(v))).toEqual([
      "null",
      "list",
      "integer",
      "number",
      "text",
      "boolean",
      "object",
    ]);
    expect([undefined, "a", [1, 2], null].map((v) => textOf(v))).toEqual(["", "a", "[1,2]", "null"]);
  });
});

describe("what is picked", () => {
  it("goes along as NDJSON that reads back", () => {
    const lines = asNdjson([event, event]).split("\n");
    expect(lines.length).toBe(3);
    expect(JSON.parse(lines[0]!)).toEqual(event);
  });
  it("or as a line for people", () => {
    expect(asText([event], "utc")).toBe("2026-10-04 02:38:41.198  warn  slots  lease LS-17 ran out\n");
    expect(asText([{ ...event, service: undefined }], "utc")).toContain("  -  ");
  });
});

describe("bins of the spine", () => {
  const counts = { from_ns: "1791081521000000000", step_ns: 60e9, buckets: [[1, 2, 30, 4, 5, 6], []] };
  it("set errors apart and lose nothing", () => {
    const [bin, empty] = severityBins(counts, theme);
    expect(bin).toMatchObject({ start: 1_791_081_521_000_000_000n, errors: 11, warnings: 4, total: 48 });
    expect(bin!.parts.map((p) => p.count)).toEqual([3, 30, 4]);
    expect(bin!.parts.reduce((n, p) => n + p.count, 0) + bin!.errors).toBe(bin!.total);
    expect(empty).toMatchObject({ start: bin!.end, total: 0 });
  });

  const group = (value: string | null, steps: number[]) => ({
    values: [value],
    total: [0],
    steps: steps.map((n) => [n]),
  });
  const stacked = (groups: number) =>
    ({
      aggregates: [{ name: "count" }],
      per: ["service"],
      group_count: groups,
      groups: Array.from({ length: Math.min(groups, 7) }, (_, n) => group(n === 1 ? null : `s${n}`, [n, n])),
      shapes: { s0: "door ‹› rang" },
    }) as unknown as MeasureAnswer;
  it("by a field tell the rest as one", () => {
    expect(stackNames(stacked(3), theme).map((n) => n.name)).toEqual(["door ‹› rang", "(missing)", "s2"]);
    const names = stackNames(stacked(20), theme);
    expect([names.length, names.at(-1)?.name]).toEqual([7, "others"]);
    const [bin] = stackedBins(severityBins(counts, theme), stacked(20), theme);
    expect(bin!.parts.map((p) => p.count)).toEqual([0, 1, 2, 3, 4, 5, 48 - 11 - 15]);
  });
});

describe("figures", () => {
  it.each([
    [1_234_567, undefined, "1 234 567"],
    [0.123456, undefined, "0.1235"],
    [0.000123456, undefined, "0.0001235"],
    [12_345.678, "ms", "12 350 ms"],
    [250, "ms", "250 ms"],
    [1_500_000_000, "ns", "1.50 s"],
    [2500, "ns", "2.50 µs"],
    [null, "ms", "–"],
    ["slots", undefined, "slots"],
  ])("%s %s", (value, unit, text) => expect(figure(value, unit)).toBe(text));

  it("as CSV are quoted as RFC 4180 has it", async () => {
    const answer = {
      per: ["service"],
      aggregates: [{ name: "count" }, { name: "p95(took_ms)" }],
      groups: [
        { values: ['a "b", c'], total: [3, null] },
        { values: [null], total: [1, 2.5] },
      ],
    } as unknown as MeasureAnswer;
    const text = await (await figuresCsv(answer)).text();
    expect(text).toBe('service,count,p95(took_ms)\r\n"a ""b"", c",3,\r\n,1,2.5\r\n');
  });
  it("by step have a row for each", async () => {
    const answer = {
      per: ["service"],
      aggregates: [{ name: "count" }],
      steps: [
        { from: "2026-10-04T02:00:00Z", to: "2026-10-04T02:05:00Z" },
        { from: "2026-10-04T02:05:00Z", to: "2026-10-04T02:10:00Z" },
      ],
      groups: [{ values: ["slots"], total: [3], steps: [[1], [2]] }],
    } as unknown as MeasureAnswer;
    const text = await (await figuresCsv(answer)).text();
    expect(text.split("\r\n")).toEqual([
      "from,service,count",
      "2026-10-04T02:00:00Z,slots,1",
      "2026-10-04T02:05:00Z,slots,2",
      "",
    ]);
  });
});
