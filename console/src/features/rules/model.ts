/** A rule's document and its rehearsal as their page shows them, free of any drawing. */
import type { Rehearsal, Rehearsed, RuleDocument, Syntax } from "../../api/types";
import { number } from "../../ui/number";
import type { Asked } from "../search/asked";

/** The tables of a document that are its form. */
export const FORMS = [
  "threshold",
  "share",
  "silence",
  "first-seen",
  "deviation",
  "objective",
  "unfinished",
  "error-group",
] as const;

/** The name of a form. */
export type FormName = (typeof FORMS)[number];

type Table = Record<string, unknown>;

function value(of: unknown): string {
  if (Array.isArray(of)) return `[${of.map(value).join(", ")}]`;
  // Texts of TOML escape as those of JSON do.
  return JSON.stringify(of);
}

/** A document as TOML: its own lines, then the table of its form. */
export function asToml(document: RuleDocument): string {
  const is = (of: unknown) => of !== null && of !== undefined && of !== "" && !(Array.isArray(of) && of.length === 0);
  const own = Object.entries(document as Table).filter(([key, of]) => !isForm(key) && (is(of) || key === "name"));
  const lines = own.map(([key, of]) => `${key} = ${value(of)}`);
  const form = formOf(document);
  if (form) {
    lines.push("", `[${form}]`);
    for (const [key, of] of Object.entries((document as Table)[form] as Table))
      if (is(of)) lines.push(`${key} = ${value(of)}`);
  }
  return lines.join("\n") + "\n";
}

function isForm(key: string): key is (typeof FORMS)[number] {
  return (FORMS as readonly string[]).includes(key);
}

/** The name of a document's form. */
export function formOf(document: RuleDocument): (typeof FORMS)[number] | undefined {
  return FORMS.find((form) => (document as Table)[form] !== undefined && (document as Table)[form] !== null);
}

/** The field that a document's bound is, and how a value of the strip is written in it. */
function boundOf(document: RuleDocument): [string, (value: number) => number] | undefined {
  const form = formOf(document);
  const table = form && ((document as Table)[form] as Table);
  const same = (n: number) => n;
  const whole = (n: number) => Math.max(0, Math.round(n));
  switch (form) {
    case "threshold":
      return [table?.below === undefined || table.below === null ? "above" : "below", same];
    case "deviation":
      // Spreads below the usual are written without their sign.
      return table?.below === undefined || table.below === null ? ["above", same] : ["below", (n) => -n];
    case "share":
      return ["above", (n) => Math.min(Math.max(n, 0), 0.99)];
    case "silence":
      return ["times", (n) => Math.max(n, 1)];
    case "unfinished":
      return ["above", whole];
    default:
      return undefined;
  }
}

/** Whether the bound can be dragged. */
export function isDraggable(document: RuleDocument | undefined | null): boolean {
  return !!document && boundOf(document) !== undefined;
}

/** Three figures are as many as a drag can mean. */
function rounded(n: number): number {
  return Number(n.toPrecision(3));
}

/** The document with another bound, given as a value of the strip. */
export function withBound(document: RuleDocument, at: number): RuleDocument {
  const [field, written] = boundOf(document) ?? [];
  const form = formOf(document);
  if (!field || !written || !form) return document;
  const table = (document as Table)[form] as Table;
  return { ...document, [form]: { ...table, [field]: rounded(written(at)) } };
}

/** What one figure of the strip means across its width: from the least to the most, the bound and zero within. */
export function scaleOf(rehearsal: Pick<Rehearsal, "bins" | "bound">): { from: number; to: number } {
  const ends = rehearsal.bins.flatMap((bin) => [bin.least, bin.most]).filter((n): n is number => typeof n === "number");
  const from = Math.min(0, rehearsal.bound.number, ...ends);
  const to = Math.max(0, rehearsal.bound.number, ...ends);
  const room = (to - from || 1) * 0.06;
  return { from: from < 0 ? from - room : 0, to: to + room };
}

/** Where the lines of a list stand, level with their alerts: never one on another, none beyond the end. */
export function placed(at: number[], line: number, height: number): number[] {
  const out: number[] = [];
  for (const wanted of at) out.push(Math.max(wanted, out.length > 0 ? (out.at(-1) as number) + line : 0));
  let end = height - line;
  for (let n = out.length - 1; n >= 0; n--) {
    out[n] = Math.max(0, Math.min(out[n] as number, end));
    end = (out[n] as number) - line;
  }
  return out;
}

/** The lines of a document that differ from the version before. */
export function changed(now: RuleDocument, before: RuleDocument | undefined): { gone: string[]; come: string[] } {
  const lines = (document: RuleDocument) =>
    asToml(document)
      .split("\n")
      .filter((line) => line !== "");
  const [new_, old] = [lines(now), before ? lines(before) : []];
  return { gone: old.filter((line) => !new_.includes(line)), come: new_.filter((line) => !old.includes(line)) };
}

/** The stretches of the last seven days in which a rule was raised, from 0 to 1. */
export function stretches(
  lately: { raised_ns: number; ended_ns?: number | null; withdrawn: boolean }[],
  nowNs: number,
): { from: number; to: number }[] {
  const week = 7 * 86_400e9;
  const at = (ns: number) => Math.min(Math.max((ns - (nowNs - week)) / week, 0), 1);
  const lasting = lately.filter((one) => !one.withdrawn);
  return lasting.map((one) => ({ from: at(one.raised_ns), to: at(one.ended_ns ?? nowNs) }));
}

/** How long an alert lasts, in words. */
export function lasted(alert: Pick<Rehearsed, "raised_ns" | "ended_ns">): string {
  if (typeof alert.ended_ns !== "number") return "raised still";
  const s = Math.round((alert.ended_ns - alert.raised_ns) / 1e9);
  if (s < 120) return `${s} s`;
  if (s < 7200) return `${Math.round(s / 60)} min`;
  return `${(s / 3600).toFixed(1)} h`;
}

/** A figure of the strip. */
export function figure(n: number | null | undefined, unit: string): string {
  if (typeof n !== "number") return "–";
  return unit === "share" ? `${number(n * 100, 3)} %` : number(n, 3);
}

const CLAUSES = ["per", "every", "having", "top"];

/** The clauses of a `measure`: what stands behind each of its words. */
function clauses(measure: Syntax, text: (from: number, to: number) => string): Record<string, string> {
  const words = (measure.parts ?? []).filter((part) => part.kind === "keyword");
  const heads = words.filter((part, n) => n === 0 || CLAUSES.includes(text(part.from, part.to).toLowerCase()));
  return Object.fromEntries(
    heads.map((head, n) => [
      text(head.from, head.to).toLowerCase(),
      text(head.to, heads[n + 1]?.from ?? measure.to).trim(),
    ]),
  );
}

/** A document to begin with, of a query that measures or of one that only finds. */
export function documentOf(asked: Asked): RuleDocument {
  const characters = [...asked.query];
  const text = (from: number, to: number) => characters.slice(from, to).join("");
  const said = asked.measure ? clauses(asked.measure, text) : {};
  const per = said.per ? { per: said.per.split(",").map((field) => field.trim()) } : {};
  const figures = (said.measure ?? "").split(/ as /i)[0]?.trim();
  return {
    name: "new rule",
    threshold: {
      events: asked.filter,
      measure: figures || "count",
      ...per,
      over: said.every || "5m",
      above: 20,
    },
  } as RuleDocument;
}
