import { useQuery } from "@tanstack/react-query";
import { api } from "../../api/client";
import type { Syntax } from "../../api/types";
import type { SearchState } from "./state";

/** A query taken apart: by the service's own parser, so that no rule of the language stands here a second time. */
export interface Asked {
  query: string;
  /** Its filter, as typed. */
  filter: string;
  /** Whether the filter is a choice of several, which one more condition must not break open. */
  choice: boolean;
  /** Its range, as typed; empty where it has none. */
  over: string;
  /** Its `measure`, where it has one. */
  measure?: Syntax;
  /** Where it names fields, in characters. */
  fields: { from: number; to: number }[];
}

function fieldsOf(node: Syntax): Syntax[] {
  return node.kind === "field" ? [node] : (node.parts ?? []).flatMap(fieldsOf);
}

/** The parts of a query, by its syntax tree. Ranges of the tree count characters, not UTF-16 units. */
export function takenApart(query: string, syntax: Syntax): Asked {
  const characters = [...query];
  const text = (from: number, to?: number) => characters.slice(from, to).join("").trim();
  const parts = syntax.parts ?? [];
  const measure = parts.find((part) => part.kind === "measure");
  const over = parts.find((part) => part.kind === "over");
  const behind = Math.min(measure?.from ?? characters.length, over?.from ?? characters.length);
  const alternatives = (part: Syntax) => part.kind === "keyword" && text(part.from, part.to).toLowerCase() === "or";
  return {
    query,
    filter: text(0, behind),
    choice: parts.some((part) => part.to <= behind && alternatives(part)),
    over: over ? text(over.from, over.to) : "",
    measure,
    fields: fieldsOf(syntax),
  };
}

/** Asks the parser once for each query. */
const CHECK = (query: string) => ({
  queryKey: ["check", query],
  queryFn: ({ signal }: { signal: AbortSignal }) => api.check(query, signal),
  staleTime: Infinity,
});

/** A query taken apart, once the parser has answered. */
export function useAsked(query: string): Asked | undefined {
  const check = useQuery({ ...CHECK(query), enabled: query.trim() !== "" });
  if (query.trim() === "") return { query, filter: "", choice: false, over: "", fields: [] };
  return check.data && takenApart(query, check.data.syntax);
}

/** A filter that one more clause can follow: what is a choice of several stays one. */
export function bracketed(asked: Asked): string {
  return asked.choice ? `(${asked.filter})` : asked.filter;
}

/** The filter with a clause behind it: one more condition, or a `measure`. */
export function followed(asked: Asked, clause: string): string {
  return asked.filter ? `${bracketed(asked)} ${clause}` : clause;
}

/** A query narrowed by more conditions, its range kept. */
export function narrowed(asked: Asked, ...conditions: string[]): string {
  const filter = conditions.length > 0 ? followed(asked, conditions.join(" ")) : asked.filter;
  return asked.over ? `${filter} ${asked.over}`.trim() : filter;
}

/** Another range. One that stands in the query would win over it, and goes. */
export function within(asked: Asked | undefined, range: { from: string; to: string }): Partial<SearchState> {
  return { ...(asked?.over ? { query: asked.filter } : {}), ...range, follow: "" };
}

/** The query with one field written otherwise, wherever it is named. */
export function renamed(asked: Asked, field: string, to: string): string {
  const characters = [...asked.query];
  let out = "";
  let done = 0;
  for (const at of asked.fields) {
    if (characters.slice(at.from, at.to).join("") !== field) continue;
    out += characters.slice(done, at.from).join("") + to;
    done = at.to;
  }
  return out + characters.slice(done).join("");
}
