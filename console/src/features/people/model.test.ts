import { describe, expect, it } from "vitest";
import { endOf, extentOf, linkOf, namesIn, partOf } from "./model";

describe("what is said of grants", () => {
  it("names rows and hidden fields", () => {
    expect(extentOf({ rows: "", hidden: [] })).toBe("every event");
    expect(extentOf({ rows: "service=slots", hidden: ["recipient.phone", "pin"] })).toBe(
      "service=slots, without recipient.phone, pin",
    );
    expect(partOf({ lane: "main", rows: ["a", "b"], hidden: ["c"] })).toBe("where a or b, without c");
    expect(partOf({ lane: "main", rows: [], hidden: ["c"] })).toBe("every event, without c");
  });
  it("reads names from one line", () => {
    expect(namesIn(" olle,  ines tore ")).toEqual(["olle", "ines", "tore"]);
    expect(namesIn(" , ")).toEqual([]);
  });
  it("ends when it is said to", () => {
    expect(endOf("8", 0)).toBe("1970-01-01T08:00:00.000Z");
    expect([endOf("", 0), endOf("-1", 0), endOf("soon", 0)]).toEqual([undefined, undefined, undefined]);
  });
  it("names a link", () => {
    expect(linkOf("1/3/42")).toBe("entry 42 of node 1, epoch 3");
    expect(linkOf(null)).toBe("older than the chains");
  });
});
