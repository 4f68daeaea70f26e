import { describe, expect, it } from "vitest";
import { columnsOf, columnsText, literal, searchAddress, shellQuoted } from "./state";

describe("a value in a query", () => {
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
