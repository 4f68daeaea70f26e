/** What the alerts page shows, free of any drawing. */
import { formatNs, parseNs } from "../../api/time";
import type { Alert } from "../../api/types";
import { compareAddress } from "../compare/model";
import { searchAddress } from "../search/state";

/** The evidence: the query over the alert's time, with its window before. */
export function evidence(alert: Pick<Alert, "query" | "window_s" | "raised" | "ended">): string {
  const from = formatNs(parseNs(alert.raised) - BigInt(alert.window_s) * 1_000_000_000n);
  return searchAddress({ query: alert.query, from, to: alert.ended ?? "now" });
}

/** What is different while it is raised, every event compared with as long a time before. */
export function difference(alert: Pick<Alert, "window_s" | "raised" | "ended">): string {
  const from = formatNs(parseNs(alert.raised) - BigInt(alert.window_s) * 1_000_000_000n);
  return compareAddress({ from, to: alert.ended ?? "now" });
}

/** How long it was raised, or is by now, in seconds. */
export function raisedFor(alert: Pick<Alert, "raised" | "ended">, nowMs: number): number {
  const end = alert.ended ? parseNs(alert.ended) : BigInt(nowMs) * 1_000_000n;
  return Number(end - parseNs(alert.raised)) / 1e9;
}
