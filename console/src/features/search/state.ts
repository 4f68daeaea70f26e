import { useMemo } from "react";
import { useSearchParams } from "react-router";

/** The views of what was found. */
export const VIEWS = ["events", "shapes", "errors"] as const;
export type View = (typeof VIEWS)[number];

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
  /** What stands below the facts: events, the shapes of their messages, or the failures among them by problem. */
  view: View;
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
      view: VIEWS.find((view) => view === read.view) ?? "events",
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
