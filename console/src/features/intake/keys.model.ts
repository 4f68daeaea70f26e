/** Keys and their limits as they are typed and read, free of any drawing. */
import type { KeyLimits } from "../../api/types";
import { number } from "../../ui/number";

/** The limits of a key, as they are typed. */
export interface Draft {
  services: string;
  lanes: string;
  rate: string;
  day: string;
  /** What events of long ago are: `late`, or a `past` that is moved in. */
  old: string;
  /** Days from now; `keep` leaves the end that was set. */
  ends: string;
}

export const NO_LIMITS: Draft = { services: "", lanes: "", rate: "", day: "", old: "late", ends: "" };

/** The limits that were typed; what is not typed here stays as it was. */
export function limitsOf(draft: Draft, nowMs: number, before?: KeyLimits): KeyLimits {
  const listed = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const count = (text: string) => (Number(text) > 0 ? Number(text) : undefined);
  const days = Number(draft.ends);
  return {
    services: listed(draft.services),
    lanes: listed(draft.lanes),
    per_second: count(draft.rate),
    day_events: count(draft.day),
    day_bytes: before?.day_bytes,
    past: draft.old === "past" || undefined,
    until:
      draft.ends === "keep" ? before?.until : days > 0 ? new Date(nowMs + days * 86_400_000).toISOString() : undefined,
  };
}

/** The limits of a key, to be typed over. */
export function draftOf(limits: KeyLimits): Draft {
  return {
    services: limits.services?.join(", ") ?? "",
    lanes: limits.lanes?.join(", ") ?? "",
    rate: limits.per_second?.toString() ?? "",
    day: limits.day_events?.toString() ?? "",
    old: limits.past ? "past" : "late",
    ends: limits.until ? "keep" : "",
  };
}

/** What a key may send, in words. */
export function allowed(l: KeyLimits): string {
  const reported = [
    l.services?.length ? `for ${l.services.join(", ")}` : "",
    l.lanes?.length ? `to ${l.lanes.join(", ")}` : "",
    l.per_second ? `${number(l.per_second)} a second` : "",
    l.day_events ? `${number(l.day_events)} events a day` : "",
    l.day_bytes ? `${number(l.day_bytes)} bytes a day` : "",
    l.past ? "a past" : "",
    l.until ? `until ${l.until}` : "",
  ].filter(Boolean);
  return reported.join("; ") || "anything";
}
