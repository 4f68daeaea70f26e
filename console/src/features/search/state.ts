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
  /** Chosen columns with their widths: `slot.bank~160,host`. */
  columns: string;
  /** `1` where long messages take several lines. */
  wrap: string;
  /** What stands below the facts: events, or the shapes of their messages. */
  view: "events" | "shapes";
  /** `1` where the fields stand beside the list. */
  fields: string;
  /** The field or shape that is broken down. */
  field: string;
  /** The field the spine is stacked by; severity where empty. */
  by: string;
  /** `1` where what comes is counted as it comes. */
  follow: string;
}

const NAMES: Record<keyof SearchState, string> = {
  query: "q",
  from: "from",
  to: "to",
  order: "order",
  seek: "seek",
  open: "open",
  columns: "columns",
  wrap: "wrap",
  view: "view",
  fields: "fields",
  field: "field",
  by: "by",
  follow: "follow",
};
const DEFAULTS: SearchState = {
  query: "",
  from: "now-1h",
  to: "now",
  order: "newest",
  seek: "",
  open: "",
  columns: "",
  wrap: "",
  view: "events",
  fields: "",
  field: "",
  by: "",
  follow: "",
};

/** Changes some of the state. */
export type Change = (change: Partial<SearchState>) => void;

/** Reads the state from the address, and changes it there. A change of query or range is a step that back undoes. */
export function useSearchState(): [SearchState, Change] {
  const [params, setParams] = useSearchParams();
  const state = useMemo(() => {
    const read = Object.fromEntries(
      (Object.keys(NAMES) as (keyof SearchState)[]).map((key) => [key, params.get(NAMES[key]) ?? DEFAULTS[key]]),
    ) as unknown as SearchState;
    return {
      ...read,
      order: read.order === "oldest" ? "oldest" : "newest",
      view: read.view === "shapes" ? "shapes" : "events",
    } satisfies SearchState;
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

/** The address of Search showing this. */
export function searchAddress(state: Partial<SearchState>): string {
  const params = new URLSearchParams();
  for (const [key, value] of Object.entries(state) as [keyof SearchState, string][])
    if (value && value !== DEFAULTS[key]) params.set(NAMES[key], value);
  return `/search?${params}`;
}

/** A value as the query language writes it. */
export function literal(value: string): string {
  return /^[\p{L}\p{N}_.:/@-]+$/u.test(value) ? value : JSON.stringify(value);
}

/** A query narrowed by one more condition. What is a choice of several must stay one. */
export function narrowed(query: string, condition: string): string {
  const { filter, over } = parted(query);
  if (!filter) return over ? `${condition} ${over}` : condition;
  const joined = /\bor\b/.test(filter) ? `(${filter}) ${condition}` : `${filter} ${condition}`;
  return over ? `${joined} ${over}` : joined;
}

/** The filter of a query, and its range. */
export function parted(query: string): { filter: string; over: string } {
  const found = query.match(/(^|\s)over\s+(last\s+\S+|today|\S+\s+(to|around)\s+\S+)\s*$/s);
  // Between quotes it is text.
  const quotes = query.slice(0, found?.index).match(/(?<!\\)"/g)?.length ?? 0;
  const over = quotes % 2 === 0 ? found : null;
  return { filter: (over ? query.slice(0, over.index) : query).trim(), over: over ? over[0].trim() : "" };
}

/** Another range. One that stands in the query would win over it, and goes. */
export function within(query: string, range: { from: string; to: string }): Partial<SearchState> {
  const { filter, over } = parted(query);
  return { ...(over ? { query: filter } : {}), ...range, follow: "" };
}

/** A filter that one more clause can follow: what is a choice of several stays one. */
export function bracketed(filter: string): string {
  return /\bor\b/.test(filter) ? `(${filter})` : filter;
}

/** A text as one word of a shell. */
export function shellQuoted(text: string): string {
  return `'${text.replaceAll("'", `'\\''`)}'`;
}

/** One column of the list. */
export interface Column {
  field: string;
  width: number;
}

const WIDTH = 140;

/** The columns as the address shows them. */
export function columnsOf(text: string): Column[] {
  return text
    .split(",")
    .filter(Boolean)
    .map((part) => {
      const [field = "", width] = part.split("~");
      return { field, width: Math.min(Math.max(Number(width) || WIDTH, 40), 800) };
    });
}

/** The columns as the address has them. */
export function columnsText(columns: Column[]): string {
  return columns.map((c) => (c.width === WIDTH ? c.field : `${c.field}~${c.width}`)).join(",");
}
