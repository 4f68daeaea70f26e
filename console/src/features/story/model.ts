/** A story's drawing, free of any drawing: which rows are shown, how high everything stands, where columns are. */
import type { LogEvent, Score, ScoreBar, ScoreRow } from "../../api/types";

/** Pixels of a row, and of a fold before one. */
export const ROW = 26;
export const FOLD = 22;

/** What of a story is shown. */
export interface Shown {
  /** Words that stand in the message or operation, in any case. */
  words: string;
  /** The only service; every one where empty. */
  service: string;
  /** Only warnings and worse, and spans that failed. */
  bad: boolean;
}

export const EVERYTHING: Shown = { words: "", service: "", bad: false };

/** A row with its place. */
export interface Placed {
  row: ScoreRow;
  /** Its number in the score. */
  index: number;
  /** Pixels from the top to its middle. */
  y: number;
  /** Pixels from the top to the fold before it, where there is one. */
  foldY?: number;
}

const BAD = ["warn", "error", "fatal"];

/** Whether a row is shown. The end of a span is shown where its beginning is. */
export function passes(row: ScoreRow, score: Score, events: LogEvent[], shown: Shown): boolean {
  const event = events[row.event];
  const bar = row.bar === undefined || row.bar === null ? undefined : score.bars[row.bar];
  if (!event) return false;
  if (shown.service && event.service !== shown.service) return false;
  const failed = row.kind !== "event" && bar?.outcome === "failed";
  if (shown.bad && !failed && !(row.kind === "event" && BAD.includes(event.severity))) return false;
  const text = row.kind === "event" ? event.message : (bar?.operation ?? "");
  return text.toLowerCase().includes(shown.words.trim().toLowerCase());
}

/** The rows that are shown, with their places, and how high all of it is. */
export function placed(score: Score, events: LogEvent[], shown: Shown): { rows: Placed[]; height: number } {
  const rows: Placed[] = [];
  let top = 0;
  score.rows.forEach((row, index) => {
    if (!passes(row, score, events, shown)) return;
    const foldY = typeof row.fold_ns === "number" ? top + FOLD / 2 : undefined;
    if (foldY !== undefined) top += FOLD;
    rows.push({ row, index, y: top + ROW / 2, foldY });
    top += ROW;
  });
  return { rows, height: top };
}

/** The first of the placed rows at or behind a row of the score. */
function atOrBehind(rows: Placed[], index: number): number {
  let [low, high] = [0, rows.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((rows[middle]?.index ?? 0) < index) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** From where to where a bar stands, in pixels; nothing where none of its rows is shown. */
export function extent(bar: ScoreBar, rows: Placed[]): { from: number; to: number } | undefined {
  const from = atOrBehind(rows, bar.from_row);
  const to = atOrBehind(rows, bar.to_row + 1) - 1;
  const [first, last] = [rows[from], rows[to]];
  if (!first || !last || to < from) return undefined;
  // A bar within one row is still seen.
  return { from: first.y - ROW / 2 + 4, to: Math.max(last.y + ROW / 2 - 6, first.y + 6) };
}

/** The rows between two heights. */
export function between(rows: Placed[], top: number, bottom: number): Placed[] {
  return rows.filter((placed) => placed.y >= top - ROW && placed.y <= bottom + ROW);
}

/** Where columns stand: pixels from the left to the middle of each, and how wide all of them are. */
export function columnsAt(score: Score, width: number, slim: boolean): { xs: number[]; width: number } {
  const gutter = slim ? 10 : 74;
  const slots = score.columns.map((column) => Math.min(column.slots, 5));
  const least = slots.map((n) => (slim ? 12 : 70) + Math.max(n - 1, 0) * 8);
  const wanted = least.reduce((sum, n) => sum + n, gutter);
  const more = slim ? 0 : Math.max(0, Math.min((width - wanted) / Math.max(score.columns.length, 1), 60));
  const xs: number[] = [];
  let left = gutter;
  least.forEach((own) => {
    xs.push(left + (own + more) / 2);
    left += own + more;
  });
  return { xs, width: left };
}

/** A duration as people read it. */
export function duration(ns: number): string {
  const digits = (value: number) => (value < 10 ? value.toFixed(1) : value.toFixed(0));
  if (ns < 1e6) return `${digits(ns / 1e3)} µs`;
  if (ns < 1e9) return `${digits(ns / 1e6)} ms`;
  if (ns < 120e9) return `${(ns / 1e9).toFixed(1)} s`;
  if (ns < 7200e9) return `${Math.floor(ns / 60e9)} m ${Math.floor((ns / 1e9) % 60)} s`;
  if (ns < 172_800e9) return `${Math.floor(ns / 3600e9)} h ${Math.floor((ns / 60e9) % 60)} m`;
  return `${Math.floor(ns / 86_400e9)} d ${Math.floor((ns / 3600e9) % 24)} h`;
}

/** What stands beside a row. */
export function beside(row: ScoreRow, score: Score, events: LogEvent[]): { text: string; note: string } {
  const bar = row.bar === undefined || row.bar === null ? undefined : score.bars[row.bar];
  if (row.kind === "event" || !bar) return { text: events[row.event]?.message ?? "", note: "" };
  if (row.kind === "end") return { text: bar.outcome === "failed" ? `${bar.operation} failed` : "", note: "" };
  if (bar.bundle) {
    const b = bar.bundle;
    const failed = b.failed > 0 ? `, ${b.failed} failed` : "";
    return {
      text: `${b.count} × ${bar.operation}`,
      note: `${duration(b.total_ns)} together, slowest ${duration(b.slowest_ns)}${failed}`,
    };
  }
  const took = typeof bar.took_ns === "number" ? duration(bar.took_ns) : "not ended";
  const failed = bar.outcome === "failed" ? ", failed" : "";
  const missing = bar.parent_missing ? ", its parent is missing" : "";
  return { text: bar.operation, note: `${took}${failed}${missing}` };
}

/** What a reader must know of the drawing: clocks that were corrected, and what is not drawn. */
export function remarks(score: Score): string[] {
  const clocks = score.clock_offsets.map((offset) => {
    if (offset.contradicts) return `The clock of ${offset.host} contradicts itself; its times are shown as sent.`;
    const by = duration(Math.abs(offset.behind_ns));
    return `${offset.host} is at least ${by} ${offset.behind_ns > 0 ? "behind" : "ahead"}, corrected here.`;
  });
  return score.not_drawn > 0 ? [...clocks, `${score.not_drawn} more spans and events are not drawn.`] : clocks;
}

/** Where the time went, in words. */
export function timeWent(score: Score): string {
  const most = score.critical_path.filter((part) => part.share >= 0.05).slice(0, 3);
  return most.map((part) => `${part.service} ${Math.round(part.share * 100)} %`).join(", ");
}
