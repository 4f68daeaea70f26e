/** A comparison as its page shows it, free of any drawing. */
import type { CompareRequest, Finding } from "../../api/types";
import { number } from "../../ui/number";
import { formatNs } from "../../api/time";
import { followed, type Asked } from "../search/asked";
import { literal } from "../search/state";
import { duration } from "../story/model";

/** What is compared; all of it stands in the address. */
export interface Compared {
  query: string;
  from: string;
  to: string;
  beforeFrom: string;
  beforeTo: string;
  /** The baseline's own query; that of the current set where empty. */
  beforeQuery: string;
  /** `1d`, `7d`: the baseline is the same time so much earlier. */
  earlier: string;
  /** `1` where all of the traces that the queries find are compared. */
  whole: string;
}

const NAMES: Record<keyof Compared, string> = {
  query: "q",
  from: "from",
  to: "to",
  beforeFrom: "before_from",
  beforeTo: "before_to",
  beforeQuery: "before_q",
  earlier: "earlier",
  whole: "whole",
};
const DEFAULTS: Compared = {
  query: "",
  from: "now-1h",
  to: "now",
  beforeFrom: "",
  beforeTo: "",
  beforeQuery: "",
  earlier: "",
  whole: "",
};

/** What an address compares. */
export function comparedOf(params: URLSearchParams): Compared {
  const entries = (Object.keys(NAMES) as (keyof Compared)[]).map((key) => [
    key,
    params.get(NAMES[key]) ?? DEFAULTS[key],
  ]);
  return Object.fromEntries(entries) as unknown as Compared;
}

/** The address of a comparison. */
export function compareAddress(compared: Partial<Compared>): string {
  const params = new URLSearchParams();
  for (const [key, value] of Object.entries(compared) as [keyof Compared, string][])
    if (value && value !== DEFAULTS[key]) params.set(NAMES[key], value);
  return `/compare?${params}`;
}

/** What is asked of the service. */
export function asked(compared: Compared): CompareRequest {
  return {
    query: compared.query,
    from: compared.from,
    to: compared.to,
    ...(compared.beforeFrom ? { before_from: compared.beforeFrom } : {}),
    ...(compared.beforeTo ? { before_to: compared.beforeTo } : {}),
    ...(compared.beforeQuery ? { before_query: compared.beforeQuery } : {}),
    ...(compared.earlier ? { earlier: compared.earlier } : {}),
    ...(compared.whole ? { whole_traces: true } : {}),
  };
}

/** The two sets the other way round, where both have a range. */
export function swapped(compared: Compared, ranges: { baseline: Range; current: Range }): Compared {
  return {
    ...compared,
    earlier: "",
    query: compared.beforeQuery || compared.query,
    from: ranges.baseline.from,
    to: ranges.baseline.to,
    beforeFrom: ranges.current.from,
    beforeTo: ranges.current.to,
    beforeQuery: compared.beforeQuery ? compared.query : "",
  };
}

interface Range {
  from: string;
  to: string;
}

/** Findings by what they are, in the order in which they are read. */
export const GROUPS: [string, Finding["kind"][]][] = [
  ["values", ["value"]],
  ["shapes", ["shape"]],
  ["services and senders", ["service", "sender"]],
  ["numbers that moved", ["number"]],
];

/** The findings of a group, best first. */
export function ofGroup(findings: Finding[], kinds: Finding["kind"][]): Finding[] {
  return findings.filter((finding) => kinds.includes(finding.kind));
}

/** How long the bars of a finding are, 0 to 1: shares as they are, anything else against the larger of the two. */
export function bars(finding: Finding): { baseline: number; current: number } {
  const relative = finding.kind === "shape" || finding.kind === "number";
  const scale = relative ? Math.max(finding.baseline, finding.current, 1e-12) : 1;
  return { baseline: finding.baseline / scale, current: finding.current / scale };
}

/** The two figures of a finding. */
export function figures(finding: Finding): string {
  const share = (n: number) => `${(n * 100).toFixed(n > 0 && n < 0.1 ? 1 : 0)} %`;
  const rate = (n: number) => (n === 0 ? "0" : `${number(n, 3)}/s`);
  const plain = (n: number) => (finding.field === "took" ? duration(n) : number(n, 4));
  const of = finding.kind === "shape" ? rate : finding.kind === "number" ? plain : share;
  return `${of(finding.baseline)} → ${of(finding.current)}`;
}

/** What a finding is called. */
export function named(finding: Finding): string {
  if (finding.template) return finding.template;
  const percent = typeof finding.percent === "number" ? `p${finding.percent} of ` : "";
  return finding.value ? (finding.query ?? "") : percent + finding.field;
}

/** The hour before a request, and a little after it. */
const HOUR_NS = 3_600_000_000_000n;
const AFTER_NS = 300_000_000_000n;

/** Requests of one operation that failed around a time, compared with those that ended well: whole traces of both. */
export function withHealthy(service: string, operation: string, atNs: bigint): string {
  const root = `kind=span service=${literal(service)} message=${JSON.stringify(operation)}`;
  return compareAddress({
    query: `${root} status=error`,
    beforeQuery: `${root} not status=error`,
    from: formatNs(atNs - HOUR_NS),
    to: formatNs(atNs + AFTER_NS),
    whole: "1",
  });
}

/** What a baseline may be, by the time it lies earlier. */
export const BASELINES = [
  ["", "just before"],
  ["1d", "a day earlier"],
  ["7d", "a week earlier"],
] as const;

/** The query with the events of a finding alone, or without them. */
export function withFinding(query: Asked, finding: Finding, without: boolean, whole = false): string {
  const condition = finding.query ?? "";
  // What explains whole traces stands in other events than those that the query finds.
  if (whole && !without) return condition;
  return followed(query, without ? `not ${condition}` : condition);
}

/** A trend in words, for those who do not see it. */
export function trendLabel(trend: NonNullable<Finding["trend"]>): string {
  const text = (along: number[]) => along.map((n) => number(n, 2)).join(", ");
  return `along the baseline: ${text(trend.baseline)}; along the current set: ${text(trend.current)}`;
}

/**
 * What is different at a service in the last minutes, compared with the same time a day earlier. Few minutes: what began
 * within the stretch varies along it, and less of what varies stands out.
 */
export function differenceOfService(service: string): string {
  return compareAddress({ query: `service=${literal(service)}`, from: "now-5m", to: "now", earlier: "1d" });
}
