import { expect, it } from "vitest";
import type { Finding } from "../../api/types";
import type { Asked } from "../search/asked";
import { parseNs } from "../../api/time";
import {
  asked,
  bars,
  compareAddress,
  differenceOfService,
  trendLabel,
  comparedOf,
  figures,
  named,
  ofGroup,
  swapped,
  withFinding,
  withHealthy,
} from "./model";

const finding = (part: Partial<Finding>): Finding => ({
  kind: "value",
  change: "more",
  field: "lease.seconds",
  value: "12",
  baseline: 0.004,
  current: 0.71,
  explained: 0.7,
  query: "lease.seconds=12",
  ...part,
});

it("what is compared stands in the address, and only what is not the usual", () => {
  const address = compareAddress({ query: "severity>=error", from: "a", to: "b", beforeFrom: "c", beforeQuery: "" });
  expect(address).toBe("/compare?q=severity%3E%3Derror&from=a&to=b&before_from=c");
  const compared = comparedOf(new URLSearchParams(address.split("?")[1]));
  expect(compared).toMatchObject({ query: "severity>=error", from: "a", to: "b", beforeFrom: "c", beforeTo: "" });
  expect(asked(compared)).toEqual({ query: "severity>=error", from: "a", to: "b", before_from: "c" });
  expect(comparedOf(new URLSearchParams()).from).toBe("now-1h");
});

it("two sets are swapped with their queries", () => {
  const compared = comparedOf(new URLSearchParams("q=status=error&before_q=status=ok"));
  const ranges = { baseline: { from: "a", to: "b" }, current: { from: "c", to: "d" } };
  expect(swapped(compared, ranges)).toEqual({
    query: "status=ok",
    beforeQuery: "status=error",
    from: "a",
    to: "b",
    beforeFrom: "c",
    beforeTo: "d",
    earlier: "",
    whole: "",
  });
});

it("requests that failed are compared with those that ended well, whole", () => {
  const at = parseNs("2026-10-04T02:38:41.5Z");
  const compared = comparedOf(new URLSearchParams(withHealthy("edge", "POST /drop-offs", at).split("?")[1]));
  expect(asked(compared)).toEqual({
    query: 'kind=span service=edge message="POST /drop-offs" status=error',
    before_query: 'kind=span service=edge message="POST /drop-offs" not status=error',
    from: "2026-10-04T01:38:41.5Z",
    to: "2026-10-04T02:43:41.5Z",
    whole_traces: true,
  });
});

it("a baseline may be the same time earlier", () => {
  const compared = comparedOf(new URLSearchParams("q=severity>=error&earlier=7d"));
  expect(asked(compared)).toMatchObject({ earlier: "7d" });
});

it("shares are drawn as they are, rates against the larger", () => {
  expect(bars(finding({}))).toEqual({ baseline: 0.004, current: 0.71 });
  expect(bars(finding({ kind: "shape", baseline: 0.2, current: 0.1 }))).toEqual({ baseline: 1, current: 0.5 });
  expect(bars(finding({ kind: "shape", baseline: 0, current: 0 }))).toEqual({ baseline: 0, current: 0 });
});

it("findings are named with their figures", () => {
  expect([named(finding({})), figures(finding({}))]).toEqual(["lease.seconds=12", "0.4 % → 71 %"]);
  const shape = finding({ kind: "shape", template: "lease ‹› ran out", baseline: 0, current: 1.234 });
  expect([named(shape), figures(shape)]).toEqual(["lease ‹› ran out", "0 → 1.23/s"]);
  const took = finding({ kind: "number", field: "took", value: "", percent: 95, baseline: 2e6, current: 3e10 });
  expect([named(took), figures(took)]).toEqual(["p95 of took", "2.0 ms → 30.0 s"]);
  expect(ofGroup([finding({}), shape], ["shape"])).toEqual([shape]);
});

it("a finding narrows the query, or is left out of it", () => {
  const query: Asked = { query: "a or b", filter: "a or b", choice: true, over: "", fields: [] };
  expect(withFinding(query, finding({}), false)).toBe("(a or b) lease.seconds=12");
  expect(withFinding(query, finding({}), true)).toBe("(a or b) not lease.seconds=12");
  // Of whole traces it stands in any of their events.
  expect(withFinding(query, finding({}), false, true)).toBe("lease.seconds=12");
});

it("a trend has words, and a service its own comparison", () => {
  expect(trendLabel({ baseline: [0, 0.5], current: [1, 2] })).toBe(
    "along the baseline: 0, 0.5; along the current set: 1, 2",
  );
  expect(differenceOfService("slots")).toBe("/compare?q=service%3Dslots&from=now-5m&earlier=1d");
});
