/** The HTTP interface's answers (docs/http-api.md), as far as the console reads them. */
export type Json = null | boolean | number | string | Json[] | { [name: string]: Json };

export const SEVERITIES = ["trace", "debug", "info", "warn", "error", "fatal"] as const;
export type Severity = (typeof SEVERITIES)[number];

export interface LogEvent {
  id: string;
  time: string;
  arrived: string;
  severity: Severity;
  lane: string;
  sender: string;
  service?: string;
  host?: string;
  message: string;
  trace?: string;
  span?: string;
  parent?: string;
  sent_time?: string;
  fields: { [name: string]: Json };
}

export interface Mistake {
  column: number;
  length: number;
  message: string;
  cure: string;
}

export interface Explanation {
  chunks: number;
  skipped_by_time: number;
  skipped_by_filter: number;
  skipped_by_order: number;
  chunks_read: number;
  rows_looked_at: number;
  head_rows: number;
  left_out: string[];
  stopped: string | null;
  took_us: number;
}

export interface SearchRequest {
  query: string;
  from?: string;
  to?: string;
  order?: "newest" | "oldest";
  limit?: number;
  cursor?: string;
  buckets?: number;
}

export interface SearchAnswer {
  events: LogEvent[];
  cursor: string | null;
  canonical: string;
  range: { from: string; to: string };
  warnings?: Mistake[];
  explain: Explanation;
  empty?: { in_range: number; reasons: string[] };
}

export interface HistogramAnswer {
  range: { from: string; to: string };
  from_ns: string;
  step_ns: number;
  buckets: number[][];
  total: number;
  explain: Explanation;
}

export interface StoryAnswer {
  id: string;
  tie: "trace" | "id";
  query: string;
  events: LogEvent[];
  services: { service: string; events: number; first_ns: number }[];
  lanes: string[];
  lanes_not_readable: string[];
  more: boolean;
  explain: Explanation;
}

export interface Me {
  name: string;
  role: string;
  lanes: string[];
}

export interface Rule {
  id: number;
  name: string;
  query: string;
  window_s: number;
  above: number;
  hold_s: number;
  state: string;
  since: string;
  judged: string | null;
  count: number;
  note: string;
}

export interface Alert {
  id: number;
  rule: string;
  query: string;
  window_s: number;
  above: number;
  raised: string;
  ended: string | null;
  peak: number;
  late: boolean;
  taken_by: string | null;
  notified: { kind: string; target: string; what: string; state: string }[];
}

export interface Arrival {
  service: string;
  host: string;
  sender: string;
  lane: string;
  stored: number;
  late: number;
  untimed: number;
  bytes: number;
  first: string;
  last: string;
  clock_ahead_ms: number;
  silent: boolean;
  per_hour: number[];
}

export interface ArrivalsAnswer {
  hours: number;
  arrivals: Arrival[];
  refused: { sender: string; reason: string; refused: number; first: string; last: string; sample?: string }[];
}

export interface WayIn {
  name: string;
  address: string;
}
