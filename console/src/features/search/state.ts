import { useMemo } from "react";
import { useSearchParams } from "react-router";

/** What Search shows; all of it stands in the address. */
export interface SearchState {
  query: string;
  /** As typed: RFC 3339, or relative such as now-1h. */
  from: string;
  to: string;
  order: "newest" | "oldest";
  /** Where in the range the list begins, if it was sought. */
  seek: string;
  /** Id of the event that is open. */
  open: string;
}

const NAMES: Record<keyof SearchState, string> = {
  query: "q",
  from: "from",
  to: "to",
  order: "order",
  seek: "seek",
  open: "open",
};
const DEFAULTS: SearchState = { query: "", from: "now-1h", to: "now", order: "newest", seek: "", open: "" };

/** Reads the state from the address, and changes it there. A change of query or range is a step back can undo. */
export function useSearchState(): [SearchState, (change: Partial<SearchState>) => void] {
  const [params, setParams] = useSearchParams();
  const state = useMemo(() => {
    const read = (key: keyof SearchState) => params.get(NAMES[key]) ?? DEFAULTS[key];
    return {
      query: read("query"),
      from: read("from"),
      to: read("to"),
      order: read("order") === "oldest" ? "oldest" : "newest",
      seek: read("seek"),
      open: read("open"),
    } as SearchState;
  }, [params]);
  const change = (change: Partial<SearchState>) => {
    const asks = "query" in change || "from" in change || "to" in change || "order" in change;
    setParams(
      (p) => {
        const all = asks ? { seek: "", open: "", ...change } : change;
        for (const [key, value] of Object.entries(all) as [keyof SearchState, string][]) {
          if (value === DEFAULTS[key]) p.delete(NAMES[key]);
          else p.set(NAMES[key], value);
        }
        return p;
      },
      { replace: !asks },
    );
  };
  return [state, change];
}

/** A value as the query language writes it. */
export function literal(value: string): string {
  return /^[\p{L}\p{N}_.:/@-]+$/u.test(value) ? value : JSON.stringify(value);
}

/** A query narrowed by one more condition. What is a choice of several must stay one. */
export function narrowed(query: string, condition: string): string {
  if (!query.trim()) return condition;
  const over = query.match(/(^|\s)over\s+(last|today|\S+\s+(to|around))\b.*$/s);
  const filter = over ? query.slice(0, over.index) : query;
  const joined = /\bor\b/.test(filter) ? `(${filter.trim()}) ${condition}` : `${filter.trim()} ${condition}`;
  return over ? `${joined}${over[0]}` : joined;
}

/** A text as one word of a shell. */
export function shellQuoted(text: string): string {
  return `'${text.replaceAll("'", `'\\''`)}'`;
}
