import { describe, expect, it } from "vitest";
import { number } from "../../ui/number";
import { counted, whatFailed } from "./errors.model";

describe("error groups", () => {
  it("are counted in words", () => {
    expect(counted(1, "group")).toBe("1 group");
    expect(counted(1200, "group")).toBe(`${number(1200)} groups`);
  });
  it("are described with what is known of them", () => {
    const group = { id: "a1", lanes: ["main"], cause: "Refused", releases: [{ release: "41.2", count: 12 }] };
    expect(whatFailed(group)).toBe("group a1 · caused by Refused · release 41.2 (12) · lane main");
    expect(whatFailed({ id: "a1", lanes: [] })).toBe("group a1");
  });
});
