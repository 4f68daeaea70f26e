import type { NodeListed } from "../../api/types";

/** How a node is, in a word or two. */
export function stateOf(node: NodeListed): string {
  if (!node.alive) return "stopped";
  if (node.still_s) return `no beat for ${node.still_s} s`;
  return node.draining ? "drained" : "lives";
}

/** Whether its state asks for somebody to look. */
export function isWrong(node: NodeListed): boolean {
  return node.alive && (node.still_s ?? 0) > 0;
}

/** Versions that run at the same time, where they are several. */
export function versionsApart(nodes: NodeListed[]): string[] {
  const versions = [...new Set(nodes.filter((n) => n.alive).map((n) => n.version))];
  return versions.length > 1 ? versions.sort() : [];
}
