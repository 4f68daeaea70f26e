/** Each leaf of an event by its dotted path; fields without `fields.` before them. */
function flat(value: unknown, path = "", out = new Map<string, string>()): Map<string, string> {
  if (value !== null && typeof value === "object" && !Array.isArray(value) && Object.keys(value).length > 0) {
    for (const [name, inner] of Object.entries(value)) {
      flat(inner, path === "" || path === "fields" ? name : `${path}.${name}`, out);
    }
  } else if (path !== "fields") {
    out.set(path, typeof value === "string" ? value : JSON.stringify(value));
  }
  return out;
}

export interface Change {
  field: string;
  before?: string;
  after?: string;
}

/** What differs between two forms of an event; the names of rules that changed it are left out. */
export function changes(before: unknown, after: unknown): Change[] {
  const [was, is] = [flat(before), flat(after)];
  const fields = [...new Set([...was.keys(), ...is.keys()])].filter((f) => f !== "transformed");
  return fields
    .filter((field) => was.get(field) !== is.get(field))
    .map((field) => ({ field, before: was.get(field), after: is.get(field) }));
}
