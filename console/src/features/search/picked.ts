import { useState } from "react";
import { exactShort, parseNs, type Zone } from "../../api/time";
import type { LogEvent } from "../../api/types";

/** Rows picked to be copied. */
export function usePicked(events: LogEvent[]) {
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const [anchor, setAnchor] = useState(-1);
  const toggle = (index: number) => {
    const event = events[index];
    if (!event) return;
    const next = new Set(picked);
    if (!next.delete(event.id)) next.add(event.id);
    setPicked(next);
    setAnchor(index);
  };
  /** From the row picked last to this one. */
  const reach = (index: number) => {
    const from = anchor < 0 ? index : anchor;
    const [a, b] = from < index ? [from, index] : [index, from];
    setPicked(new Set([...picked, ...events.slice(a, b + 1).map((e) => e.id)]));
    setAnchor(index);
  };
  const clear = () => {
    setPicked(new Set());
    setAnchor(-1);
  };
  return { picked, toggle, reach, clear, chosen: () => events.filter((e) => picked.has(e.id)) };
}

/** Events as NDJSON. */
export const asNdjson = (events: LogEvent[]) => events.map((e) => `${JSON.stringify(e)}\n`).join("");

/** Events as lines for people. */
export const asText = (events: LogEvent[], zone: Zone) =>
  events
    .map((e) => `${exactShort(parseNs(e.time), zone)}  ${e.severity.padEnd(5)} ${e.service ?? "-"}  ${e.message}\n`)
    .join("");
