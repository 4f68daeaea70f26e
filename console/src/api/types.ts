/**
 * The interface's types by the names the console uses. They are made from the service's own description
 * (`npm run types`; the lint fails where they drift), but for values whose form the description leaves open.
 */
import type { components } from "./described";

type Schemas = components["schemas"];

export type Json = null | boolean | number | string | Json[] | { [name: string]: Json };

export const SEVERITIES = ["trace", "debug", "info", "warn", "error", "fatal"] as const;
export type Severity = (typeof SEVERITIES)[number];

export type LogEvent = Omit<Schemas["EventAnswer"], "severity" | "fields"> & {
  severity: Severity;
  fields: { [name: string]: Json };
};
/** An answer that carries events. */
type WithEvents<T extends { events: unknown[] }> = Omit<T, "events"> & { events: LogEvent[] };

/** An answer whose account of itself is whole: counters that may be missing stand for older services. */
type Explained<T extends { explain: unknown }> = Omit<T, "explain"> & { explain: Required<Schemas["Explanation"]> };

export type NodeListed = Schemas["NodeListed"];
export type Mistake = Schemas["Mistake"];
export type Explanation = Required<Schemas["Explanation"]>;
export type SearchRequest = Schemas["SearchRequest"];
export type SearchAnswer = Explained<WithEvents<Schemas["SearchAnswer"]>>;
export type EmptyAnswer = Schemas["EmptyAnswer"];
export type HistogramAnswer = Explained<Schemas["HistogramAnswer"]>;
export type StoryAnswer = Explained<WithEvents<Schemas["StoryAnswer"]>>;
export type Score = Schemas["Score"];
export type ScoreRow = Schemas["Row"];
export type ScoreBar = Schemas["Bar"];
export type Chapter = Schemas["Chapter"];
export type FoundId = Schemas["FoundId"];
export type CompareRequest = Schemas["CompareRequest"];
export type CompareAnswer = Explained<Schemas["CompareAnswer"]>;
export type Finding = Schemas["Finding"];
export type RuleDocument = Schemas["RuleDocument"];
export type CheckedRule = Schemas["CheckedRule"];
export type AppliedRule = Schemas["AppliedRule"];
export type Rehearsal = Explained<Schemas["RehearsalAnswer"]>;
export type Rehearsed = Schemas["Rehearsed"];
export type Me = Schemas["Me"];
export type LanePart = Schemas["LanePart"];
export type Person = Schemas["PersonListed"];
export type PasswordCode = Schemas["PasswordCode"];
export type Session = Schemas["SessionListed"];
export type Token = Schemas["TokenListed"];
export type Team = Schemas["TeamListed"];
export type PutTeam = Schemas["PutTeam"];
export type Grant = Schemas["GrantListed"];
export type NewGrant = Partial<Schemas["NewGrant"]>;
export type LaneReader = Schemas["LaneReaderListed"];
export type TrailEntry = Schemas["TrailEntry"];
export type TrailVerified = Schemas["TrailVerified"];
export type Rule = Schemas["Rule"];
export type Alert = Schemas["Alert"];
export type AlertInFull = Schemas["AlertInFull"];
export type AlertMessage = Schemas["Message"];
export type Contact = Schemas["ContactListed"];
export type RuleVersion = Schemas["RuleVersion"];
export type Arrival = Schemas["Arrival"];
export type SetAside = Schemas["SetAside"];
export type ArrivalsAnswer = Required<Schemas["ArrivalsAnswer"]>;
export type WayIn = Schemas["WayIn"];
export type KeyLimits = Schemas["KeyLimits"];
export type SenderKey = Required<Schemas["Key"]>;
export type MadeSecret = Schemas["MadeSecret"];
export type Dial = Required<Schemas["Dial"]>;
export type NewDial = Schemas["NewDial"];
export type Transform = Schemas["Transform"];
/** What a transform rule does: one of the forms in docs/http-api.md. */
export type TransformAct = Transform["act"];
export type TransformRule = Schemas["TransformRule"];
export type TriedStep = Schemas["TriedStep"];
export type TriedEvent = Schemas["TriedEvent"];
export type Tie = Schemas["TieListed"];
export type TieProposal = Schemas["TieProposal"];
export type FieldListed = Schemas["FieldListed"];
export type Probed = Schemas["Probed"];
export type Syntax = Schemas["Syntax"];
export type AggregateColumn = Schemas["AggregateColumn"];
export type GroupAnswer = { values: Json[]; total: Json[]; steps?: Json[][] };
export type MeasureAnswer = Explained<Omit<Schemas["MeasureAnswer"], "groups">> & { groups: GroupAnswer[] };
export type CheckAnswer = Schemas["CheckAnswer"];
export type CompleteRequest = Schemas["CompleteRequest"];
export type CompleteAnswer = Schemas["CompleteAnswer"];
export type Proposal = Schemas["Proposal"];
export type RangeMeant = Schemas["RangeMeant"];
export type FoundFieldsAnswer = Schemas["FoundFieldsAnswer"];
export type Spread = Schemas["Spread"];
export type ValueCount = Omit<Schemas["ValueCount"], "value"> & { value: Json };
export type FieldAnswer = Omit<Schemas["FieldAnswer"], "top"> & { top: ValueCount[] };
export type BreakdownAnswer = Omit<Schemas["BreakdownAnswer"], "fields"> & { fields: FieldAnswer[] };
export type BreakdownRequest = Schemas["BreakdownRequest"];
export type SavedSearch = Schemas["SavedSearch"];
export type ShapeRequest = Schemas["ShapeRequest"];
export type TemplateVariable = Omit<Schemas["TemplateVariable"], "top"> & { top: ValueCount[] };
export type ShapeAnswer = Omit<Schemas["ShapeAnswer"], "places"> & { places: TemplateVariable[] };
export type ErrorsRequest = Schemas["ErrorsRequest"];
export type ErrorGroup = Schemas["ErrorGroup"];
export type ErrorsAnswer = Explained<Schemas["ErrorsAnswer"]>;
export type SayOfGroup = Schemas["SayOfGroup"];
export type ServiceNow = Schemas["ServiceNow"];
export type ServiceFigures = Schemas["ServiceFigures"];
export type NowAnswer = Schemas["NowAnswer"];

/** A line of an answer that comes while it is worked out. */
export type StreamLine<T> =
  | { progress: { done: number; total: number } }
  | { events: LogEvent[] }
  | { counts: { from_ns: string; step_ns: number; buckets: number[][] } }
  | { findings: Finding[] }
  | { answer: T }
  | { problem: Schemas["Problem"] };
