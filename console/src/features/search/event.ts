import type { Json, LogEvent } from "../../api/types";

/** Names that are an event's builtin; a sent field of such a name has a dot before it in a query. */
export const OWN_NAMES =
  "time arrived severity service host message shape trace span parent kind lane took status sender transformed".split(
    " ",
  );

/** A sent field as a query names it. */
export function fieldName(path: string): string {
  if (OWN_NAMES.includes(path)) return `.${path}`;
  return /^[\p{L}\p{N}_@-][\p{L}\p{N}._@:/-]*$/u.test(path) ? path : `\`${path}\``;
}

/** A value as text. */
export function textOf(value: Json | undefined): string {
  if (value === undefined) return "";
  return typeof value === "string" ? value : JSON.stringify(value);
}

function below(value: Json | undefined, path: string): Json | undefined {
  if (value === null || typeof value !== "object" || Array.isArray(value)) return undefined;
  if (path in value) return value[path];
  for (const [name, inner] of Object.entries(value)) {
    if (!path.startsWith(`${name}.`)) continue;
    const found = below(inner, path.slice(name.length + 1));
    if (found !== undefined) return found;
  }
  return undefined;
}

/** The value of a field as the query language names it. */
export function valueOf(event: LogEvent, field: string): Json | undefined {
  if (field === "took") return event.took_ns;
  if (OWN_NAMES.includes(field)) return (event as unknown as Record<string, Json | undefined>)[field];
  return below(event.fields, field.replace(/^\./, "").replaceAll("`", ""));
}

/** A value's type, as the catalogue of fields calls it. */
export function typeOf(value: Json): string {
  if (value === null) return "null";
  if (Array.isArray(value)) return "list";
  if (typeof value === "number") return Number.isInteger(value) ? "integer" : "number";
  return { string: "text", boolean: "boolean", object: "object" }[typeof value as "string" | "boolean" | "object"];
}
