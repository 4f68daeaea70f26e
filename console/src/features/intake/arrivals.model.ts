/** The account of arrivals as its page shows it, free of any drawing. */
import type { Arrival } from "../../api/types";

/** Hours of a way back such as `24h` or `8d`; a day where it is none. */
export function hoursBack(text: string | null): number {
  const units: Record<string, number> = { h: 1, d: 24 };
  const hours = Number(text?.slice(0, -1)) * (units[text?.slice(-1) ?? ""] ?? NaN);
  return Number.isInteger(hours) && hours >= 1 && hours <= 192 ? hours : 24;
}

/** What is odd about a sender. */
export function notes(a: Arrival): string[] {
  const reported = [];
  if (a.silent) reported.push("fell silent");
  if (a.clock_ahead_ms > 0) reported.push(`clock ${(a.clock_ahead_ms / 1000).toFixed(1)} s ahead`);
  if (a.untimed > 0) reported.push("some without a time");
  return reported;
}

/** The hosts of a service and sender as one row, so that every service is seen in one look. */
export function folded(arrivals: Arrival[]): Arrival[] {
  const rows = new Map<string, { hosts: number; all: Arrival }>();
  for (const a of arrivals) {
    const key = [a.service, a.sender, a.lane].join("\n");
    const row = rows.get(key);
    if (!row) {
      rows.set(key, { hosts: 1, all: { ...a } });
      continue;
    }
    row.hosts += 1;
    const all = row.all;
    row.all = {
      ...all,
      host: `${row.hosts} hosts`,
      stored: all.stored + a.stored,
      late: all.late + a.late,
      untimed: all.untimed + a.untimed,
      last: a.last > all.last ? a.last : all.last,
      clock_ahead_ms: Math.max(all.clock_ahead_ms, a.clock_ahead_ms),
      silent: all.silent && a.silent,
      per_hour: all.per_hour.map((n, at) => n + (a.per_hour[at] ?? 0)),
    };
  }
  return [...rows.values()].map((row) => row.all);
}
