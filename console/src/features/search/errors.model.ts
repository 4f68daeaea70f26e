import type { ErrorGroup } from "../../api/types";
import { number } from "../../ui/number";

/** The states to choose from; every one first. */
export const STATES = [
  ["", "every state"],
  ["new", "new"],
  ["known", "known"],
  ["resolved", "resolved"],
  ["returned", "returned"],
] as const;

/** A number of things: `1 group`, `1,200 groups`. */
export function counted(n: number, what: string): string {
  return `${number(n)} ${what}${n === 1 ? "" : "s"}`;
}

/** In one line: the cause, and the releases that failed. */
export function whatFailed(group: Pick<ErrorGroup, "cause" | "releases" | "lanes" | "id">): string {
  const parts = [`group ${group.id}`];
  if (group.cause) parts.push(`caused by ${group.cause}`);
  const releases = (group.releases ?? []).map((r) => `${r.release} (${number(r.count)})`);
  if (releases.length > 0) parts.push(`release ${releases.join(", ")}`);
  if (group.lanes.length > 0) parts.push(`lane ${group.lanes.join(", ")}`);
  return parts.join(" · ");
}
