/** A rule as a sentence whose parts can be changed, free of any drawing. */
import type { RuleDocument } from "../../api/types";
import { FORMS, formOf, type FormName } from "./model";

/** A part of the sentence: a word, or what stands in a field of the document. */
export type Part =
  | { word: string }
  | {
      field: string;
      label: string;
      kind: "query" | "text" | "number" | "list" | "choice";
      options?: readonly (readonly [string, string])[];
      /** What the field means while it is empty. */
      empty?: string;
      /** How a number of the document is shown: a share as a hundred times as much. */
      times?: number;
    };

const EVENTS: Part = { field: "events", label: "events", kind: "query" };
const MEASURE: Part = { field: "measure", label: "measure", kind: "text", empty: "count" };
const OVER: Part = { field: "over", label: "window", kind: "text", empty: "5m" };
const PER: Part = { field: "per", label: "judged apart by", kind: "list", empty: "everything as one" };
const SIDE: Part = {
  field: "side",
  label: "above or below",
  kind: "choice",
  options: [
    ["above", "above"],
    ["below", "below"],
  ],
};
const NUMBER: Part = { field: "number", label: "bound", kind: "number" };
const word = (text: string): Part => ({ word: text });
const MEASURED = [word("when"), MEASURE, word("of"), EVENTS, word("over"), OVER, word("per"), PER, word("is")];

/** What each form says, in order. */
export const SENTENCES: Record<FormName, Part[]> = {
  threshold: [...MEASURED, SIDE, NUMBER],
  share: [
    word("when, of"),
    EVENTS,
    word("over"),
    OVER,
    word("per"),
    PER,
    word("more than"),
    { field: "above", label: "percent", kind: "number", times: 100 },
    word("% are"),
    { field: "of", label: "those that count", kind: "query" },
    word("and there are at least"),
    { field: "least", label: "least number", kind: "number", empty: "20" },
  ],
  silence: [
    word("when"),
    EVENTS,
    word("per"),
    PER,
    word("has been silent for"),
    { field: "times", label: "times the usual gap", kind: "number", empty: "3" },
    word("times its usual gap"),
  ],
  "first-seen": [
    word("when a"),
    { field: "what", label: "what is new", kind: "text", empty: "shape" },
    word("comes in"),
    EVENTS,
    word("that was not there for"),
    { field: "unseen", label: "not seen for", kind: "text", empty: "7d" },
    word("and stays raised for"),
    { field: "over", label: "stays raised for", kind: "text", empty: "1h" },
  ],
  deviation: [
    ...MEASURED,
    NUMBER,
    word("spreads"),
    SIDE,
    word("its usual at the same time of the"),
    {
      field: "like",
      label: "compared with",
      kind: "choice",
      options: [
        ["week", "week"],
        ["day", "day"],
      ],
    },
    word("by at least"),
    { field: "least", label: "least difference", kind: "number", empty: "0" },
  ],
  objective: [
    word("when, of"),
    { field: "all", label: "events that count", kind: "query" },
    word("over"),
    { field: "period", label: "period", kind: "text", empty: "30d" },
    word("the budget burns too fast for"),
    { field: "percent", label: "percent that are good", kind: "number" },
    word("% to be"),
    { field: "good", label: "good events", kind: "query" },
  ],
  unfinished: [
    word("when"),
    { field: "begins", label: "beginnings", kind: "query" },
    word("is not followed by"),
    { field: "ends", label: "ends", kind: "query" },
    word("of the same"),
    { field: "tie", label: "tie", kind: "text" },
    word("within"),
    { field: "within", label: "within", kind: "text", empty: "10m" },
    word("more than"),
    { field: "above", label: "how many", kind: "number", empty: "0" },
    word("times"),
  ],
  "error-group": [
    word("when a kind of failure in"),
    EVENTS,
    word("is"),
    {
      field: "which",
      label: "new or returned",
      kind: "choice",
      options: [
        ["both", "new, or came back"],
        ["new", "new"],
        ["returned", "back after it was resolved"],
      ],
    },
  ],
};

/** What stands around the form. */
export const AROUND: Part[] = [
  word("for"),
  { field: "for", label: "for", kind: "text", empty: "at once" },
  word("notify"),
  { field: "notify", label: "contacts", kind: "list", empty: "nobody" },
  word("as a"),
  {
    field: "urgency",
    label: "urgency",
    kind: "choice",
    options: [
      ["page", "page: somebody is to look now"],
      ["ticket", "ticket: on a working day"],
    ],
  },
];

type Table = Record<string, unknown>;

const isAround = (field: string) => ["for", "notify", "urgency", "name", "note", "runbook"].includes(field);

const tableOf = (document: RuleDocument): Table => {
  const form = formOf(document);
  return form ? ((document as Table)[form] as Table) : {};
};

/** What stands in a field, as it is typed. */
export function shownIn(document: RuleDocument, part: Exclude<Part, { word: string }>): string {
  const table = isAround(part.field) ? (document as Table) : tableOf(document);
  const below = typeof table.below === "number";
  if (part.field === "side") return below ? "below" : "above";
  const value = part.field === "number" ? (below ? table.below : table.above) : table[part.field];
  if (value === undefined || value === null) return part.kind === "choice" ? (part.options?.[0]?.[0] ?? "") : "";
  if (Array.isArray(value)) return value.join(", ");
  if (typeof value === "number") return String(Number((value * (part.times ?? 1)).toPrecision(12)));
  return String(value);
}

/** The document with something else typed into a field. A number that is none is left as it was. */
export function withTyped(document: RuleDocument, part: Exclude<Part, { word: string }>, text: string): RuleDocument {
  const number = Number(text.replace(",", ".")) / (part.times ?? 1);
  const value =
    part.kind === "list"
      ? text
          .split(",")
          .map((one) => one.trimStart())
          .filter((one, n, all) => one !== "" || n < all.length - 1)
      : part.kind === "number"
        ? text.trim() === ""
          ? undefined
          : number
        : text;
  if (part.kind === "number" && value !== undefined && !Number.isFinite(value)) return document;
  if (isAround(part.field)) return { ...document, [part.field]: value } as RuleDocument;
  const form = formOf(document);
  if (!form) return document;
  const table = tableOf(document);
  const other =
    part.field === "side" || part.field === "number" ? bounded(table, part.field, value) : { [part.field]: value };
  return { ...document, [form]: { ...table, ...other } } as RuleDocument;
}

/** A bound stands in the field of its side. */
function bounded(table: Table, field: "side" | "number", value: unknown): Table {
  const wasBelow = typeof table.below === "number";
  const below = field === "side" ? value === "below" : wasBelow;
  const number = field === "number" ? value : wasBelow ? table.below : table.above;
  return below ? { above: undefined, below: number } : { above: number, below: undefined };
}

/** The document with another form, with what both forms have. */
export function withForm(document: RuleDocument, form: FormName): RuleDocument {
  const was = tableOf(document);
  const rest = Object.fromEntries(
    Object.entries(document).filter(([key]) => !(FORMS as readonly string[]).includes(key)),
  );
  const fields = SENTENCES[form].flatMap((part) => ("field" in part ? [part.field] : []));
  const wanted = fields.includes("number") ? [...fields, "above", "below"] : fields;
  const kept = Object.fromEntries(Object.entries(was).filter(([key]) => wanted.includes(key)));
  return { ...rest, [form]: { ...BEGUN[form], ...kept } } as RuleDocument;
}

/** What a form is begun with. */
const BEGUN: Record<FormName, Table> = {
  threshold: { over: "5m", above: 20 },
  share: { of: "severity>=error", over: "10m", above: 0.05 },
  silence: { per: ["service"], times: 3 },
  "first-seen": { what: "shape", unseen: "7d", over: "1h" },
  deviation: { over: "15m", above: 4, like: "week" },
  objective: { all: "kind=span", good: "status!=error", percent: 99.5, period: "30d" },
  unfinished: { begins: "began", ends: "done", tie: "trace", within: "10m", above: 0 },
  "error-group": { events: "severity>=error", which: "both" },
};
