import type { Json } from "../../api/types";
import { number } from "../../ui/number";

/** A figure as people read it, with the unit that its field's name shows. */
export function figure(value: Json, unit?: string): string {
  if (value === null || value === undefined) return "–";
  if (typeof value !== "number") return typeof value === "string" ? value : JSON.stringify(value);
  if (unit === "ns" && value >= 1e3) {
    const [each, name] = value >= 1e9 ? [1e9, "s"] : value >= 1e6 ? [1e6, "ms"] : [1e3, "µs"];
    return `${(value / each).toPrecision(3)} ${name}`;
  }
  // Four digits that tell something, however small the figure is.
  const short = number(value, Number.isInteger(value) ? undefined : 4);
  return unit ? `${short} ${unit}` : short;
}
