/** Times keep their nanoseconds: a bigint of nanoseconds from 1970, never a float. */
const MILLI = 1_000_000n;

/** From RFC 3339 in UTC as the service writes it. */
export function parseNs(text: string): bigint {
  const [head = "", fraction = ""] = text.replace(/Z$/, "").split(".");
  const ms = Date.parse(`${head}Z`);
  return BigInt(Number.isNaN(ms) ? 0 : ms) * MILLI + BigInt(fraction.slice(0, 9).padEnd(9, "0") || "0");
}

/** RFC 3339 in UTC, with as many digits as matter. */
export function formatNs(ns: bigint): string {
  const fraction = ((ns % 1_000_000_000n) + 1_000_000_000n) % 1_000_000_000n;
  const whole = new Date(Number((ns - fraction) / MILLI)).toISOString().slice(0, 19);
  const digits = fraction.toString().padStart(9, "0").replace(/0+$/, "");
  return digits ? `${whole}.${digits}Z` : `${whole}Z`;
}

/** The chosen zone: UTC, or the browser's own. */
export type Zone = "utc" | "local";

function parts(ns: bigint, zone: Zone): { date: string; time: string; fraction: string } {
  const fraction = ((ns % 1_000_000_000n) + 1_000_000_000n) % 1_000_000_000n;
  const ms = Number((ns - fraction) / MILLI);
  const shift = zone === "local" ? -new Date(ms).getTimezoneOffset() * 60_000 : 0;
  const iso = new Date(ms + shift).toISOString();
  return { date: iso.slice(0, 10), time: iso.slice(11, 19), fraction: fraction.toString().padStart(9, "0") };
}

/** `02:38:41.198` */
export function clock(ns: bigint, zone: Zone, digits = 3): string {
  const { time, fraction } = parts(ns, zone);
  return digits ? `${time}.${fraction.slice(0, digits)}` : time;
}

/** `02:38` */
export const hourMinute = (ns: bigint, zone: Zone) => parts(ns, zone).time.slice(0, 5);

/** `02:38:41`, or over a day and more `10-04 02:38`: as much as moments of a range differ by. */
export function within(ns: bigint, zone: Zone, range: { from: string; to: string }): string {
  const { date, time } = parts(ns, zone);
  const long = parseNs(range.to) - parseNs(range.from) > 72_000_000_000_000n;
  return long ? `${date.slice(5)} ${time.slice(0, 5)}` : time;
}

/** `2026-10-04 02:38:41` of an RFC 3339 time. */
export const moment = (text: string, zone: Zone) => `${date(parseNs(text), zone)} ${clock(parseNs(text), zone, 0)}`;

/** `2026-10-04` */
export const date = (ns: bigint, zone: Zone) => parts(ns, zone).date;

/** `2026-10-04 02:38:41.5`, with as many digits as matter, as the entry of a range takes it again. */
export function exactShort(ns: bigint, zone: Zone): string {
  const { date, time, fraction } = parts(ns, zone);
  const digits = fraction.replace(/0+$/, "");
  return `${date} ${digits || !time.endsWith(":00") ? time : time.slice(0, 5)}${digits ? `.${digits}` : ""}`;
}

/** `2026-10-04 02:38:41.198 204 331 UTC`, exact. */
export function exact(ns: bigint, zone: Zone): string {
  const { date, time, fraction } = parts(ns, zone);
  const grouped = `${fraction.slice(0, 3)} ${fraction.slice(3, 6)} ${fraction.slice(6)}`;
  return `${date} ${time}.${grouped} ${offsetName(ns, zone)}`;
}

/** `UTC`, or the offset from it such as `+02:00`. */
export function offsetName(ns: bigint, zone: Zone): string {
  if (zone === "utc") return "UTC";
  const minutes = -new Date(Number(ns / MILLI)).getTimezoneOffset();
  const pad = (n: number) => String(n).padStart(2, "0");
  return `${minutes < 0 ? "-" : "+"}${pad(Math.floor(Math.abs(minutes) / 60))}:${pad(Math.abs(minutes) % 60)}`;
}

/** `3 h ago`, `in 2 min`. */
export function ago(ns: bigint, nowMs = Date.now()): string {
  const s = (nowMs - Number(ns / MILLI)) / 1000;
  const text = span(Math.abs(s));
  return s < 0 ? `in ${text}` : `${text} ago`;
}

/** A length in the unit that reads best. */
export function span(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`;
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.round(seconds / 3600)} h`;
  return `${Math.round(seconds / 86_400)} days`;
}
