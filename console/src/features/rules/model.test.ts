import { expect, it } from "vitest";
import type { RuleDocument } from "../../api/types";
import {
  asToml,
  changed,
  documentOf,
  figure,
  isDraggable,
  lasted,
  placed,
  scaleOf,
  stretches,
  withBound,
} from "./model";

const leases = {
  name: 'leases "run" out',
  notify: ["on call"],
  threshold: { events: 'service=slots "ran out"', measure: "", per: ["zone"], over: "5m", above: 20, below: null },
} as RuleDocument;

it("a document is written as TOML, without what is not given", () => {
  expect(asToml(leases)).toBe(
    'name = "leases \\"run\\" out"\nnotify = ["on call"]\n\n[threshold]\nevents = "service=slots \\"ran out\\""\n' +
      'per = ["zone"]\nover = "5m"\nabove = 20\n',
  );
});

it("a dragged bound is written where the form has it", () => {
  expect(withBound(leases, 31.4159)).toMatchObject({ threshold: { above: 31.4 } });
  const below = { name: "d", deviation: { over: "5m", below: 4 } } as unknown as RuleDocument;
  expect(withBound(below, -6)).toMatchObject({ deviation: { below: 6 } });
  const silence = { name: "s", silence: { per: ["service"] } } as unknown as RuleDocument;
  expect(withBound(silence, 0.2)).toMatchObject({ silence: { times: 1 } });
  const open = { name: "u", unfinished: { above: 3 } } as unknown as RuleDocument;
  expect(withBound(open, 7.6)).toMatchObject({ unfinished: { above: 8 } });
  const objective = { name: "o", objective: {} } as unknown as RuleDocument;
  expect([isDraggable(leases), isDraggable(objective), withBound(objective, 3)]).toEqual([true, false, objective]);
});

it("the scale holds every value, the bound and zero", () => {
  const bins = [
    { from_ns: 0, least: 2, most: 50 },
    { from_ns: 1, least: null, most: null },
  ];
  expect(scaleOf({ bins, bound: { side: "above", number: 100 } })).toEqual({ from: 0, to: 106 });
  const spreads = scaleOf({ bins: [{ from_ns: 0, least: -10, most: -1 }], bound: { side: "below", number: -5 } });
  expect(spreads.from).toBeCloseTo(-10.6);
});

it("lines of the list never lie on one another, nor beyond the end", () => {
  expect(placed([0, 5, 90], 20, 200)).toEqual([0, 20, 90]);
  expect(placed([190, 195, 199], 20, 200)).toEqual([140, 160, 180]);
});

it("alerts last as long as they are read", () => {
  expect(lasted({ raised_ns: 0, ended_ns: 90e9 })).toBe("90 s");
  expect(lasted({ raised_ns: 0, ended_ns: 600e9 })).toBe("10 min");
  expect(lasted({ raised_ns: 0, ended_ns: null })).toBe("raised still");
  expect([figure(0.125, "share"), figure(null, ""), figure(123.45, "measured")]).toEqual(["12.5 %", "–", "123"]);
});

it("a query is a document to begin with", () => {
  const query = "service=slots measure p95(took) per zone, bank every 10m";
  const at = (word: string) => ({ from: query.indexOf(word), to: query.indexOf(word) + word.length });
  const measure = {
    kind: "measure",
    from: 14,
    to: query.length,
    parts: ["measure", "per", "every"].map((word) => ({ kind: "keyword", ...at(` ${word} `.trim()), parts: [] })),
  };
  const asked = { query, filter: "service=slots", choice: false, over: "", fields: [], measure } as never;
  expect(documentOf(asked)).toMatchObject({
    threshold: { events: "service=slots", measure: "p95(took)", per: ["zone", "bank"], over: "10m", above: 20 },
  });
  expect(documentOf({ query: "error", filter: "error", choice: false, over: "", fields: [] })).toMatchObject({
    threshold: { events: "error", measure: "count", over: "5m" },
  });
});

it("a version shows the lines that differ", () => {
  const rule = (above: number) => ({ name: "x", threshold: { over: "5m", above } }) as unknown as RuleDocument;
  expect(changed(rule(4), rule(3))).toEqual({ gone: ["above = 3"], come: ["above = 4"] });
  expect(changed(rule(4), undefined).come[0]).toBe('name = "x"');
});

it("a week's strip has what was raised and stands", () => {
  const day = 86_400e9;
  const one = (from: number, to: number | null, withdrawn = false) => ({
    raised_ns: from * day,
    ended_ns: to && to * day,
    withdrawn,
  });
  expect(stretches([one(7, 8.75), one(13.3, null), one(9, 10, true), one(1, 2)], 14 * day)).toEqual([
    { from: 0, to: 0.25 },
    { from: expect.closeTo(0.9) as number, to: 1 },
    { from: 0, to: 0 },
  ]);
});
