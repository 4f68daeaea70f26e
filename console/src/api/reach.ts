/** Whether the service answers: what the last call met. A call that was given up says nothing. */

let answers = true;
const listeners = new Set<() => void>();

/** Notes what a call met. */
export function noteReach(now: boolean): void {
  if (now === answers) return;
  answers = now;
  listeners.forEach((listener) => listener());
}

/** Whether the last call was answered. */
export const isReached = () => answers;

/** Calls `listener` when that changes, until what is returned is called. */
export function onReach(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** The same place on other nodes. */
export function elsewhere(nodes: readonly string[], place: string): { node: string; href: string }[] {
  return nodes.map((node) => {
    const base = node.replace(/\/+$/, "");
    return { node: base.replace(/^https?:\/\//, ""), href: base + place };
  });
}
