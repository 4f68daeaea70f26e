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
  kind?: string;
  took_ns?: number;
  status?: string;
  sent_time?: string;
  /** The transform rules that changed it. */
  transformed?: string[];
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
  skipped_by_bloom: number;
  skipped_by_bloom_set: number;
  skipped_by_order: number;
  chunks_read: number;
  pages_scanned: number;
  pages_skipped: number;
  rows_looked_at: number;
  head_rows: number;
  segments_read: number;
  fetched_bytes: number;
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
  zone?: string;
  buckets?: number;
}

export interface SearchAnswer {
  events: LogEvent[];
  cursor: string | null;
  canonical: string;
  range: { from: string; to: string };
  warnings?: Mistake[];
  explain: Explanation;
  empty?: EmptyAnswer;
}

/** Why nothing was found. */
export interface EmptyAnswer {
  in_range: number;
  unknown_fields: { field: string; near: string[] }[];
  reasons: string[];
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

export interface SetAside {
  service: string;
  host: string;
  sender: string;
  lane: string;
  cause: string;
  events: number;
  bytes: number;
  first: string;
  last: string;
}

export interface ArrivalsAnswer {
  hours: number;
  arrivals: Arrival[];
  more?: boolean;
  set_aside: SetAside[];
  refused: { sender: string; reason: string; refused: number; first: string; last: string; sample?: string }[];
}

export interface WayIn {
  name: string;
  address: string;
}

export interface KeyLimits {
  services?: string[];
  lanes?: string[];
  per_second?: number;
  day_events?: number;
  day_bytes?: number;
  until?: string;
}

export interface SenderKey {
  name: string;
  fixed: Record<string, string>;
  limits: KeyLimits;
  created: string;
  revoked: string | null;
  last_used: string | null;
  state: string;
  secrets: { prefix: string; created: string; until: string | null }[];
  used_today: [number, number];
}

export interface Dial {
  id: number;
  when: string;
  least: string;
  until: string | null;
  why: string;
  who: string;
  set: string;
  in_force: boolean;
}

/** What a transform rule does; its forms stand in docs/http-api.md. */
export type TransformAct = string | Record<string, unknown>;

export interface TransformRule {
  rule: { name: string; when: string; act: TransformAct };
  text: string;
  held: number;
  last: string | null;
  changed: string;
  idle: boolean;
}

export interface TriedStep {
  rule: string;
  held: boolean;
  after?: Record<string, unknown>;
  note?: string;
}

export interface TriedEvent {
  line: number;
  refused?: string;
  tried?: { before: Record<string, unknown>; steps: TriedStep[]; after: Record<string, unknown> | null };
  lane?: string;
  set_aside?: string;
}

export interface Tie {
  name: string;
  spellings: string[];
}

export interface TieProposal {
  tie: string;
  spelling: string;
  shared: number;
  distinct: number;
  example: string;
}

export interface FieldListed {
  lane: string;
  field: string;
  types: string[];
  conflicting: boolean;
  first: string;
  last: string;
  share: number;
  distinct: number;
  examples: string[];
  tie?: string;
}

export interface Probed {
  way: string;
  address: string;
  answered_ms: number | null;
  found_ms: number | null;
  wrong?: string;
}

export interface Syntax {
  kind: string;
  from: number;
  to: number;
  parts?: Syntax[];
}

export interface MeasureAnswer {
  aggregates: { name: string; error?: number; unit?: string }[];
  per: string[];
  steps?: { from: string; to: string }[];
  groups: { values: Json[]; total: Json[]; steps?: Json[][] }[];
  group_count: number;
  limited?: string;
  shapes?: Record<string, string>;
  canonical: string;
  range: { from: string; to: string };
  warnings?: Mistake[];
  explain: Explanation;
}

export interface CheckAnswer {
  canonical: string;
  mistakes: Mistake[];
  warnings: Mistake[];
  syntax: Syntax;
}

export interface Proposal {
  text: string;
  kind: "field" | "part" | "tie" | "value" | "word" | "aggregate" | "range";
  events?: number;
  note?: string;
}

export interface RangeMeant {
  from: string;
  to: string;
  now: { from: string; to: string };
}

export interface FoundFieldsAnswer {
  events: number;
  whole: boolean;
  fields: { field: string; types: string[]; having: number }[];
  explain: Explanation;
}

export interface Spread {
  numbers: number;
  min: number;
  max: number;
  percentiles: [number, number][];
  counts: number[];
  by_factor: boolean;
}

export interface ValueCount {
  value: Json;
  template?: string;
  count: number;
}

export interface BreakdownAnswer {
  events: number;
  fields: {
    field: string;
    having: number;
    distinct: number;
    uncounted: number;
    top: ValueCount[];
    spread?: Spread;
  }[];
  explain: Explanation;
}

export interface SavedSearch {
  name: string;
  query: string;
  from?: string;
  to?: string;
  columns?: string;
  note?: string;
  owner: string;
  changed: string;
  mine: boolean;
}

export interface ShapeAnswer {
  shape: string;
  template: string;
  events: number;
  places: { before: string; distinct: number; top: ValueCount[] }[];
}

export interface ServiceFigures {
  rate: number;
  error_share: number;
  p95_ms?: number;
}

export interface NowAnswer {
  at: string;
  window_s: number;
  usual_of: string;
  services: {
    service: string;
    now: ServiceFigures;
    usual?: ServiceFigures;
    strays: string[];
    trend: number[];
    errors: number[];
  }[];
  alerts: Alert[];
  building: string[];
  silent: { service: string; last: string }[];
  refused: { sender: string; reason: string; refused: number; first: string; last: string }[];
  marks: { at: string; what: string; id: string }[];
  left_out: string[];
}

/** A line of an answer that comes while it is worked out. */
export type StreamLine<T> =
  | { progress: { done: number; total: number } }
  | { events: LogEvent[] }
  | { counts: { from_ns: string; step_ns: number; buckets: number[][] } }
  | { answer: T }
  | { problem: { status: number; detail: string; mistakes?: Mistake[] } };
