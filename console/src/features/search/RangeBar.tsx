import { useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { exactShort, formatNs, parseNs, type Zone } from "../../api/time";
import { radius, space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Quiet } from "../../ui/controls";
import { useAsked, within } from "./asked";
import type { Change, SearchState } from "./state";

const Bar = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${space.xs} ${space.s};
  padding: 0 ${space.l} ${space.s};
  min-width: 0;
  @media (max-width: 600px) {
    flex-wrap: nowrap;
    overflow-x: auto;
    scrollbar-width: none;
    white-space: nowrap;
  }
`;

const Entry = styled.input`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 4px ${space.s};
  min-height: 28px;
  font-variant-numeric: tabular-nums;
  flex: 0 1 340px;
  min-width: 180px;
  &[aria-invalid="true"] {
    border-color: ${(p) => p.theme.severity.error};
  }
`;

const Wrong = styled.span.attrs({ role: "alert" })`
  color: ${(p) => p.theme.severity.error};
  font-size: ${type.small};
`;

const SPANS: [string, string][] = [
  ["now-15m", "15 min"],
  ["now-1h", "1 hour"],
  ["now-6h", "6 hours"],
  ["now-1d", "1 day"],
  ["now-7d", "7 days"],
];

/** A range as people read it, and as the entry takes it again. */
export function rangeText(from: string, to: string, zone: Zone): string {
  const relative = /^now-(\S+)$/.exec(from);
  if (relative && to === "now") return `last ${relative[1]}`;
  const fixed = (text: string) => (/^\d{4}-\d\d-\d\dT.*Z$/.test(text) ? exactShort(parseNs(text), zone) : text);
  const [a, b] = [fixed(from), fixed(to)];
  // The day of the end is shown only where it is another one.
  return `${a} to ${a.slice(0, 11) === b.slice(0, 11) && /^\d{4}-/.test(b) ? b.slice(11) : b}`;
}

/** The zone's name, as the service takes it. */
export const zoneName = (zone: Zone) => (zone === "local" ? Intl.DateTimeFormat().resolvedOptions().timeZone : "UTC");

/** Which stretch of time: quick spans, a text as people say it, steps, back and forth. */
export function RangeBar(props: {
  state: SearchState;
  change: Change;
  /** The range as it was understood, where it was. */
  range?: { from: string; to: string };
}) {
  const { state, change, range } = props;
  const asked = useAsked(state.query);
  const { zone } = useZone();
  const navigate = useNavigate();
  const shown = rangeText(state.from, state.to, zone);
  const [draft, setDraft] = useState<string>();
  const [wrong, setWrong] = useState("");
  const read = async (text: string) => {
    try {
      const meant = await api.range(text, zoneName(zone));
      setWrong("");
      setDraft(undefined);
      change(within(asked, { from: meant.from, to: meant.to }));
    } catch (e) {
      setWrong(e instanceof Error ? e.message : String(e));
    }
  };
  const step = (by: number, stretch = 1) => {
    if (!range) return;
    const [from, to] = [parseNs(range.from), parseNs(range.to)];
    const length = to - from;
    const shift = BigInt(Math.round(Number(length) * by));
    const more = BigInt(Math.round((Number(length) * (stretch - 1)) / 2));
    change(within(asked, { from: formatNs(from + shift - more), to: formatNs(to + shift + more) }));
  };
  return (
    <Bar role="group" aria-label="Range">
      {SPANS.map(([from, name]) => {
        const on = state.from === from && state.to === "now";
        return (
          <Quiet key={from} $on={on} aria-pressed={on} onPress={() => change(within(asked, { from, to: "now" }))}>
            {name}
          </Quiet>
        );
      })}
      <Entry
        aria-label="Range in words"
        aria-invalid={wrong !== ""}
        title="20m · yesterday 2am to 3am · 20m around 02:38 · 2026-10-04T02:10Z to 2026-10-04T02:30Z"
        spellCheck={false}
        autoComplete="off"
        value={draft ?? shown}
        onChange={(e) => setDraft(e.target.value)}
        onFocus={(e) => e.target.select()}
        onBlur={() => {
          if (draft === shown || draft?.trim() === "") setDraft(undefined);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") {
            e.preventDefault();
            void read(draft ?? shown);
          } else if (e.key === "Escape") {
            setDraft(undefined);
            setWrong("");
          }
        }}
      />
      <Quiet onPress={() => step(-1)} aria-label="Earlier by one range">
        ‹ earlier
      </Quiet>
      <Quiet onPress={() => step(1)} aria-label="Later by one range">
        later ›
      </Quiet>
      <Quiet onPress={() => step(0, 3)}>wider</Quiet>
      <Quiet onPress={() => void navigate(-1)}>back</Quiet>
      <Quiet onPress={() => void navigate(1)}>forth</Quiet>
      <Quiet
        $on={state.follow === "1"}
        aria-pressed={state.follow === "1"}
        onPress={() =>
          change(
            state.follow === "1"
              ? { follow: "" }
              : { follow: "1", ...(state.to === "now" ? {} : { from: "now-15m", to: "now" }) },
          )
        }
      >
        follow now
      </Quiet>
      {wrong && <Wrong>{wrong}</Wrong>}
    </Bar>
  );
}
