/** Queries asked lately, in this browser. */
const KEY = "calvex.recent";
const KEPT = 30;

/** The latest first. */
export function recentQueries(): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEY) ?? "[]");
    return Array.isArray(kept) ? kept.filter((q): q is string => typeof q === "string") : [];
  } catch {
    return [];
  }
}

/** Forgets them: they are of the person who signs out. */
export function forgetRecent() {
  try {
    localStorage.removeItem(KEY);
  } catch {
    // Without storage nothing was kept.
  }
}

/** Keeps a query that was asked. */
export function keepRecent(query: string) {
  if (!query.trim()) return;
  const all = [query, ...recentQueries().filter((q) => q !== query)].slice(0, KEPT);
  try {
    localStorage.setItem(KEY, JSON.stringify(all));
  } catch {
    // Without storage there is no history, and nothing else is lost.
  }
}
