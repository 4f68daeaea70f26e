import { expect, it } from "vitest";
import { around, rate, share, tail, usual } from "./model";

const figures = { rate: 0.253, error_share: 0.034, p95_ms: 1520 };

it("figures have the digits that mean something", () => {
  expect([rate(figures), share(figures), tail(figures)]).toEqual(["0.25/s", "3.4 %", "1.5 s"]);
  expect([rate({ ...figures, rate: 812.4 }), share({ ...figures, error_share: 0.5 })]).toEqual(["812/s", "50 %"]);
});

it("what is not known is a dash", () => {
  expect([tail({ rate: 1, error_share: 0, p95_ms: null }), tail({ rate: 1, error_share: 0 })]).toEqual(["–", "–"]);
  expect([usual(rate, null), usual(rate, undefined), usual(rate, figures)]).toEqual(["–", "–", "0.25/s"]);
});

it("a moment opens in Search with the minutes around it", () => {
  expect(around("2026-10-04T02:10:00Z", "service=slots")).toBe(
    "/search?q=service%3Dslots&from=2026-10-04T02%3A00%3A00Z&to=2026-10-04T02%3A20%3A00Z",
  );
});
