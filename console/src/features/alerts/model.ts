/** What the pages of alerts show, free of any drawing. */
import { formatNs, parseNs } from "../../api/time";
import type { Alert, AlertMessage } from "../../api/types";
import { compareAddress } from "../compare/model";
import { searchAddress } from "../search/state";

/** The evidence: the query over the alert's time, with its window before. */
export function evidence(alert: Pick<Alert, "query" | "window_s" | "raised" | "ended">): string {
  const from = formatNs(parseNs(alert.raised) - BigInt(Math.round(alert.window_s)) * 1_000_000_000n);
  return searchAddress({ query: alert.query, from, to: alert.ended ?? "now" });
}

/** What is different while it is raised, every event compared with as long a time before. */
export function difference(alert: Pick<Alert, "window_s" | "raised" | "ended">): string {
  const from = formatNs(parseNs(alert.raised) - BigInt(Math.round(alert.window_s)) * 1_000_000_000n);
  return compareAddress({ from, to: alert.ended ?? "now" });
}

/** The events that a line of the explanation is of, over the alert's time. */
export function eventsOf(query: string, alert: Pick<Alert, "window_s" | "raised" | "ended">): string {
  return evidence({ ...alert, query });
}

/** How long it was raised, or is by now, in seconds. */
export function raisedFor(alert: Pick<Alert, "raised" | "ended">, nowMs: number): number {
  const end = alert.ended ? parseNs(alert.ended) : BigInt(nowMs) * 1_000_000n;
  return Number(end - parseNs(alert.raised)) / 1e9;
}

/** The state of an alert, in a word or two. */
export function stateOf(alert: Pick<Alert, "ended" | "withdrawn" | "closed">): string {
  if (alert.withdrawn) return "withdrawn";
  return alert.ended ? (alert.closed ?? "quiet again") : "raised";
}

/** Groups of an alert that are named. */
const NAMED = 6;

/** The groups of an alert, the first of them by name; nothing where the rule judges all as one. */
export function groupsOf(alert: Pick<Alert, "groups" | "group_count">): string {
  const names = [...new Set(alert.groups.map((group) => group.name).filter((name) => name !== ""))];
  const more = alert.group_count - Math.min(names.length, NAMED);
  if (names.length === 0) return "";
  return names.slice(0, NAMED).join(", ") + (more > 0 && names.length > NAMED ? ` and ${more} more` : "");
}

/** Where the page of the alert that a message named is: the one of a rule, raised at a moment. */
export function named(alerts: Alert[], rule: string | null, raised: string | null): Alert | undefined {
  if (!rule || !raised) return undefined;
  const at = parseNs(raised);
  const of = alerts.filter((alert) => alert.rule === rule);
  // What came late may have moved it since.
  const covers = (alert: Alert) => parseNs(alert.raised) <= at && (!alert.ended || at <= parseNs(alert.ended));
  return of.find((alert) => parseNs(alert.raised) === at) ?? of.find(covers);
}

/** Whom a message was for. */
export function recipient(message: Pick<AlertMessage, "contact" | "target">): string {
  return message.contact || message.target;
}

/** How often a message was tried, in words; nothing for one that arrived at once. */
export function triesOf(message: Pick<AlertMessage, "tries">): string {
  const failed = message.tries.filter((tried) => tried.error !== "").length;
  if (failed === 0) return "";
  return failed === 1 ? "a try failed" : `${failed} tries failed`;
}
