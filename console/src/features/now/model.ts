/** What Now shows, free of any drawing. */
import { formatNs, parseNs, span } from "../../api/time";
import type { ServiceFigures } from "../../api/types";
import { searchAddress } from "../search/state";

/** How far around a moment Search looks. */
const AROUND_NS = 10n * 60n * 1_000_000_000n;

/** The minutes around a moment, in Search. */
export function around(at: string, query: string): string {
  const ns = parseNs(at);
  return searchAddress({ query, from: formatNs(ns - AROUND_NS), to: formatNs(ns + AROUND_NS) });
}

/** Events a second. */
export const rate = (f: ServiceFigures) => `${f.rate < 10 ? f.rate.toFixed(2) : f.rate.toFixed(0)}/s`;
/** The share of errors. */
export const share = (f: ServiceFigures) => `${(f.error_share * 100).toFixed(f.error_share < 0.1 ? 1 : 0)} %`;
/** The slowest tail. */
export const tail = (f: ServiceFigures) => (typeof f.p95_ms === "number" ? span(f.p95_ms / 1000) : "–");
/** A figure as it usually is. */
export const usual = (of: (f: ServiceFigures) => string, f: ServiceFigures | null | undefined) => (f ? of(f) : "–");
