import { describe, expect, it } from "vitest";
import {
  bracketed,
  columnsOf,
  columnsText,
  literal,
  narrowed,
  parted,
  searchAddress,
  shellQuoted,
  within,
} from "./state";

describe("a query and its range", () => {
  it.each([
    ["service=slots over last 15m", "service=slots", "over last 15m"],
    ["service=slots over today", "service=slots", "over today"],
    ["door over 02:10 to 02:20", "door", "over 02:10 to 02:20"],
    ["door over 20m around 02:38", "door", "over 20m around 02:38"],
    ["over last 1h", "", "over last 1h"],
    ["lease over limit", "lease over limit", ""],
    ["leftover last 15m", "leftover last 15m", ""],
    ['"shift over last 15m"', '"shift over last 15m"', ""],
    ['"a \\" b" over last 15m', '"a \\" b"', "over last 15m"],
  ])("%s", (query, filter, over) => expect(parted(query)).toEqual({ filter, over }));

  it("another range takes the place of the one written", () => {
    expect(within("door over last 15m", { from: "a", to: "b" })).toEqual({
      query: "door",
      from: "a",
      to: "b",
      follow: "",
    });
    expect(within("door", { from: "a", to: "b" })).toEqual({ from: "a", to: "b", follow: "" });
  });
});

describe("narrowing", () => {
  it.each([
    ["", "a=1", "a=1"],
    ["door", "a=1", "door a=1"],
    ["door or lease", "a=1", "(door or lease) a=1"],
    ["over last 15m", "a=1", "a=1 over last 15m"],
    ["door or lease over last 15m", "a=1", "(door or lease) a=1 over last 15m"],
    ["corridor", "a=1", "corridor a=1"],
  ])("%s by %s", (query, condition, asked) => expect(narrowed(query, condition)).toBe(asked));

  it("what is a choice of several stays one", () => {
    expect(bracketed("a or b")).toBe("(a or b)");
    expect(bracketed("a b")).toBe("a b");
  });

  it.each([
    ["BK-017", "BK-017"],
    ["/parcels/17", "/parcels/17"],
    ["Tür", "Tür"],
    ["two words", '"two words"'],
    ['a "quoted" one', '"a \\"quoted\\" one"'],
    ["", '""'],
  ])("the value %s", (value, text) => expect(literal(value)).toBe(text));
});

describe("columns in the address", () => {
  it("come back as they were, widths and all", () => {
    const columns = columnsOf("slot.bank~180,slot.door,trace~40");
    expect(columns).toEqual([
      { field: "slot.bank", width: 180 },
      { field: "slot.door", width: 140 },
      { field: "trace", width: 40 },
    ]);
    expect(columnsText(columns)).toBe("slot.bank~180,slot.door,trace~40");
  });
  it("are bounded, whatever the address says", () => {
    expect(columnsOf("a~1,b~99999,c~wide,,")).toEqual([
      { field: "a", width: 40 },
      { field: "b", width: 800 },
      { field: "c", width: 140 },
    ]);
    expect(columnsOf("")).toEqual([]);
  });
});

it("only what differs from the usual stands in an address", () => {
  expect(searchAddress({ query: "a b", from: "now-1h", to: "now", order: "newest", wrap: "" })).toBe("/search?q=a+b");
  expect(searchAddress({ order: "oldest", from: "now-15m" })).toBe("/search?order=oldest&from=now-15m");
});

it("a shell takes a query as one word", () => {
  expect(shellQuoted('service=slots "ran out"')).toBe("'service=slots \"ran out\"'");
  expect(shellQuoted("it's")).toBe(`'it'\\''s'`);
});
