import type { Grant, LanePart } from "../../api/types";

/** Over what a grant is, in words: which events, without which fields. */
export function extentOf(grant: Pick<Grant, "rows" | "hidden">): string {
  const without = grant.hidden.length > 0 ? `, without ${grant.hidden.join(", ")}` : "";
  return `${grant.rows || "every event"}${without}`;
}

/** What may be read of a lane of which a part only may, in words. */
export function partOf(part: LanePart): string {
  const rows = part.rows.length > 0 ? `where ${part.rows.join(" or ")}` : "every event";
  const without = part.hidden.length > 0 ? `, without ${part.hidden.join(", ")}` : "";
  return `${rows}${without}`;
}

/** Names that stand in one line of text, one or more blanks or commas between them. */
export function namesIn(text: string): string[] {
  return text.split(/[\s,]+/).filter((name) => name !== "");
}

/** When something ends that lasts so many hours from now, RFC 3339; nothing where it does not end. */
export function endOf(hours: string, now_ms: number): string | undefined {
  const length = Number(hours);
  return hours === "" || !(length > 0) ? undefined : new Date(now_ms + length * 3_600_000).toISOString();
}

/** An entry's place in its chain, in words. */
export function linkOf(link: string | null | undefined): string {
  const [node, epoch, n] = (link ?? "").split("/");
  return n === undefined ? "older than the chains" : `entry ${n} of node ${node}, epoch ${epoch}`;
}
