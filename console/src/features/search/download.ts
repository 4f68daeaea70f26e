import { api } from "../../api/client";
import type { Json, LogEvent, MeasureAnswer } from "../../api/types";
import { textOf, valueOf } from "./event";

/** Events of one download at most: they are held by the browser until they are written. */
export const BOUND = 100_000;
/** Events of one answer. */
const AT_ONCE = 1000;

export interface Wanted {
  query: string;
  from: string;
  to: string;
  form: "ndjson" | "csv";
  /** Of a CSV. */
  columns: string[];
}

/** What came of a download. */
export interface Fetched {
  blob: Blob;
  events: number;
  /** Whether the bound cut something off. */
  more: boolean;
}

/** A cell that a table program would take for a formula begins with `'` instead; a number is none. */
export function defused(cell: string): string {
  return /^[=+\-@\t\r]/.test(cell) && !/^[+-]?\d*\.?\d+(e[+-]?\d+)?$/i.test(cell) ? `'${cell}` : cell;
}

/** The text of rows as RFC 4180 has them, without formulas. */
async function csv(rows: string[][]): Promise<string> {
  const { unparse } = await import("papaparse");
  return `${unparse(
    rows.map((row) => row.map(defused)),
    { newline: "\r\n" },
  )}\r\n`;
}

const cell = (event: LogEvent, column: string) => textOf(valueOf(event, column));

/** Fetches every event found, the oldest first, up to the bound. */
export async function fetchEvents(
  wanted: Wanted,
  progress: (events: number) => void,
  signal: AbortSignal,
): Promise<Fetched> {
  const parts: string[] = wanted.form === "csv" ? [await csv([wanted.columns])] : [];
  let cursor: string | undefined;
  let [from, to] = [wanted.from, wanted.to];
  let events = 0;
  do {
    const answer = await api.search(
      { query: wanted.query, from, to, order: "oldest", limit: Math.min(AT_ONCE, BOUND - events), cursor },
      signal,
    );
    const losses = [...answer.explain.left_out, ...(answer.explain.stopped ? [answer.explain.stopped] : [])];
    if (losses.length > 0) throw new Error(`Not all could be read: ${losses.join("; ")}`);
    parts.push(
      wanted.form === "csv"
        ? await csv(answer.events.map((e) => wanted.columns.map((c) => cell(e, c))))
        : answer.events.map((e) => `${JSON.stringify(e)}\n`).join(""),
    );
    events += answer.events.length;
    progress(events);
    // A relative range must not move while its pages are read.
    [from, to] = [answer.range.from, answer.range.to];
    cursor = answer.cursor ?? undefined;
  } while (cursor && events < BOUND);
  const type = wanted.form === "csv" ? "text/csv" : "application/x-ndjson";
  return { blob: new Blob(parts, { type }), events, more: cursor !== undefined };
}

/** Figures as CSV: a row a group, or with steps a row a group and step. */
export async function figuresCsv(answer: MeasureAnswer): Promise<Blob> {
  const stepped = (answer.steps?.length ?? 0) > 0;
  const head = [...(stepped ? ["from"] : []), ...answer.per, ...answer.aggregates.map((a) => a.name)];
  const text = (value: Json) => (value === null ? "" : textOf(value));
  const rows = answer.groups.flatMap((group) => {
    const values = group.values.map(text);
    return stepped
      ? (group.steps ?? []).map((cells, n) => [answer.steps?.[n]?.from ?? "", ...values, ...cells.map(text)])
      : [[...values, ...group.total.map(text)]];
  });
  return new Blob([await csv([head, ...rows])], { type: "text/csv" });
}

/** Hands a file to the browser. */
export function handOver(blob: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  // The browser has taken it once the click is over; a minute is for the slow.
  window.setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}
