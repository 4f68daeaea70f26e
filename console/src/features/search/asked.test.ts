import { describe, expect, it } from "vitest";
import type { Syntax } from "../../api/types";
import { bracketed, followed, narrowed, renamed, takenApart, within } from "./asked";

/** A tree as the parser answers it: each part is a kind and its text, found in the query behind the one before. */
function tree(query: string, ...parts: [string, string][]): Syntax {
  const characters = [...query];
  let at = 0;
  const found = parts.map(([kind, text]) => {
    const length = [...text].length;
    while (characters.slice(at, at + length).join("") !== text) at += 1;
    const from = at;
    at += length;
    return { kind, from, to: at } as Syntax;
  });
  return { kind: "query", from: 0, to: characters.length, parts: found };
}
const asked = (query: string, ...parts: [string, string][]) => takenApart(query, tree(query, ...parts));

const plain = asked("door", ["words", "door"]);
const choice = asked(
  "door or lease over last 15m",
  ["words", "door"],
  ["keyword", "or"],
  ["words", "lease"],
  ["over", "over last 15m"],
);

describe("a query taken apart", () => {
  it("has its filter, its measure and its range", () => {
    const all = asked(
      "Tür 📦 measure count over today",
      ["words", "Tür 📦"],
      ["measure", "measure count"],
      ["over", "over today"],
    );
    expect([all.filter, all.over, all.choice]).toEqual(["Tür 📦", "over today", false]);
    expect(all.measure).toMatchObject({ kind: "measure", from: 6 });
    expect([choice.filter, choice.over, choice.choice]).toEqual(["door or lease", "over last 15m", true]);
  });
  it("without a filter is only a range", () => {
    const only = asked("over last 1h", ["over", "over last 1h"]);
    expect([only.filter, only.over]).toEqual(["", "over last 1h"]);
    expect(narrowed(only, "a=1")).toBe("a=1 over last 1h");
  });
});

describe("narrowing", () => {
  it("keeps the range and what is a choice of several", () => {
    expect(narrowed(plain, "a=1")).toBe("door a=1");
    expect(narrowed(choice, "a=1")).toBe("(door or lease) a=1 over last 15m");
    expect(narrowed(choice, "a=1", "b=2")).toBe("(door or lease) a=1 b=2 over last 15m");
    expect(narrowed(choice)).toBe("door or lease over last 15m");
  });
  it("puts a clause behind the filter", () => {
    expect(followed(choice, "measure count")).toBe("(door or lease) measure count");
    expect([bracketed(plain), bracketed(choice)]).toEqual(["door", "(door or lease)"]);
    expect(followed({ ...plain, filter: "" }, "measure count")).toBe("measure count");
  });
});

it("another range takes the place of the one written", () => {
  expect(within(choice, { from: "a", to: "b" })).toEqual({ query: "door or lease", from: "a", to: "b", follow: "" });
  expect(within(plain, { from: "a", to: "b" })).toEqual({ from: "a", to: "b", follow: "" });
  expect(within(undefined, { from: "a", to: "b" })).toEqual({ from: "a", to: "b", follow: "" });
});

it("a field is written otherwise where it is named, and nowhere else", () => {
  const query = 'htpp="a htpp b" 📦 htpp>1 my.htpp=2';
  const text = [...query];
  const at = (from: number, name: string) => ({ kind: "field", from, to: from + name.length }) as Syntax;
  const second = text.indexOf("📦") + 2;
  const third = second + "htpp>1 ".length;
  const found = takenApart(query, {
    kind: "query",
    from: 0,
    to: text.length,
    parts: [at(0, "htpp"), at(second, "htpp"), at(third, "my.htpp")],
  });
  expect(renamed(found, "htpp", "http")).toBe('http="a htpp b" 📦 http>1 my.htpp=2');
});
