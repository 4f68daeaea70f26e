import { useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { clock, date, formatNs, parseNs } from "../../api/time";
import type { Rehearsal } from "../../api/types";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Muted, Problem } from "../../ui/controls";
import { compareAddress } from "../compare/model";
import { figure, lasted, placed, scaleOf } from "./model";

const HEIGHT = 560;
const WIDTH = 300;
/** Room for the times left of the strip, and for the brackets. */
const TIMES = 86;
const BRACKETS = 16;
const LINE = 20;
const times = (n: number) => (n === 1 ? "once" : n === 2 ? "twice" : `${n} times`);

/** Alerts that the list shows. */
const MOST = 26;

const Both = styled.div`
  display: grid;
  grid-template-columns: ${TIMES + WIDTH + BRACKETS}px minmax(0, 1fr);
  gap: ${space.m};
  ol {
    position: relative;
    list-style: none;
    margin: 0;
    padding: 0;
    height: ${HEIGHT}px;
  }
  li {
    position: absolute;
    left: 0;
    right: 0;
    height: ${LINE}px;
    font-size: ${type.small};
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  li a {
    color: ${(p) => p.theme.accent};
  }
  li.mark {
    color: ${(p) => p.theme.mark};
  }
  svg {
    touch-action: none;
    overflow: visible;
  }
  @media (max-width: 600px) {
    grid-template-columns: minmax(0, 1fr);
    overflow-x: auto;
    ol {
      height: auto;
    }
    li {
      position: static;
      height: auto;
      white-space: normal;
    }
  }
`;

const Summary = styled.p`
  font-size: ${type.body};
  margin: 0 0 ${space.m};
  em {
    font-style: normal;
    color: ${(p) => p.theme.accent};
  }
`;

const Real = styled.span`
  color: ${(p) => p.theme.mark};
`;

/** A sentence in which what stands between stars is what would help. */
function Said({ text }: { text: string }) {
  const parts = text.split("*");
  return (
    <Summary data-testid="summary">
      {parts.map((part, n) => (n % 2 === 1 ? <em key={n}>{part}</em> : <span key={n}>{part}</span>))}
    </Summary>
  );
}

/** The strip of a rule's values running down, its bound an upright line, and level with it what would have been raised. */
export function Rehearsed(props: {
  rehearsal: Rehearsal;
  rule?: string;
  /** Another bound, as a value of the strip; none where it cannot be moved. */
  onBound?: (at: number) => void;
}) {
  const { rehearsal, onBound } = props;
  const { zone } = useZone();
  const theme = useTheme();
  const [held, setHeld] = useState<{ x: number; scale: { from: number; to: number } }>();
  const from = Number(parseNs(rehearsal.range.from));
  const to = Number(parseNs(rehearsal.range.to));
  // The scale stays while the line is dragged, or it would run away under the pointer.
  const scale = held?.scale ?? scaleOf(rehearsal);
  const y = (ns: number) => ((ns - from) / Math.max(to - from, 1)) * HEIGHT;
  const x = (value: number) => ((value - scale.from) / (scale.to - scale.from || 1)) * WIDTH;
  const valueAt = (at: number) => scale.from + (Math.min(Math.max(at, 0), WIDTH) / WIDTH) * (scale.to - scale.from);
  const bound = rehearsal.bound.number;
  const line = held ? held.x : x(bound);
  const shown = rehearsal.alerts.slice(-MOST);
  const marks = rehearsal.marks.map((mark) => ({ at: Number(parseNs(mark.at)), what: mark.what }));
  const entries = [
    ...shown.map((alert) => ({ at: alert.raised_ns, alert, mark: undefined })),
    ...marks.map((mark) => ({ at: mark.at, alert: undefined, mark: mark.what })),
  ]
    .sort((a, b) => a.at - b.at)
    .slice(-MOST);
  const lines = placed(
    entries.map((entry) => y(entry.at) - LINE / 2),
    LINE,
    HEIGHT,
  );
  const move = (event: PointerEvent) => {
    if (!held) return;
    const box = event.currentTarget.getBoundingClientRect();
    const at = Math.min(Math.max(event.clientX - box.left - TIMES - BRACKETS, 0), WIDTH);
    setHeld({ ...held, x: at });
    onBound?.(valueAt(at));
  };
  // Keys come faster than answers: each goes on from the one before.
  const keyed = useRef<{ from: number; at: number }>(undefined);
  const keys = (event: KeyboardEvent) => {
    const step = (scale.to - scale.from) / 50;
    const by = { ArrowLeft: -step, ArrowDown: -step, ArrowRight: step, ArrowUp: step }[event.key];
    if (by === undefined || !onBound) return;
    event.preventDefault();
    const at = (keyed.current?.from === bound ? keyed.current.at : bound) + by;
    keyed.current = { from: bound, at };
    onBound(at);
  };
  const each = HEIGHT / Math.max(rehearsal.bins.length, 1);
  const days = Array.from({ length: 8 }, (_, n) => from + ((to - from) * n) / 7);
  const unit = rehearsal.unit;
  return (
    <div>
      <Said text={rehearsal.summary} />
      {rehearsal.incomplete && <Problem>{rehearsal.incomplete}</Problem>}
      <Muted as="p">
        {unit} {rehearsal.bound.side} <strong data-testid="bound">{figure(bound, unit)}</strong>
        {onBound && " · drag the line to try another"}
        {rehearsal.in_truth.length > 0 && (
          <>
            {" · "}
            <Real>▍</Real>in truth it was raised {times(rehearsal.in_truth.length)}
          </>
        )}
        {rehearsal.groups > 1 && ` · ${rehearsal.groups} groups`}
        {rehearsal.messages > 0 && ` · ${rehearsal.messages} messages to each contact`}
      </Muted>
      <Both>
        <svg
          width={TIMES + WIDTH + BRACKETS}
          height={HEIGHT}
          role="group"
          aria-label={`the values from ${rehearsal.range.from} to ${rehearsal.range.to}, the bound, and when it would have been raised`}
          onPointerMove={move}
          onPointerUp={() => setHeld(undefined)}
          onPointerCancel={() => setHeld(undefined)}
        >
          {days.map((ns, n) => (
            <text key={n} x={0} y={Math.min(Math.max(y(ns) + 4, 10), HEIGHT)} fontSize={11} fill={theme.muted}>
              {to - from > 2 * 86_400e9
                ? `${date(BigInt(Math.round(ns)), zone).slice(5)} ${clock(BigInt(Math.round(ns)), zone, 0).slice(0, 5)}`
                : clock(BigInt(Math.round(ns)), zone, 0).slice(0, 5)}
            </text>
          ))}
          <g transform={`translate(${TIMES}, 0)`}>
            {rehearsal.in_truth.map((real, n) => (
              <rect
                key={n}
                x={-3}
                width={4}
                y={y(real.raised_ns)}
                height={Math.max(y(real.ended_ns ?? to) - y(real.raised_ns), 2)}
                fill={real.withdrawn ? theme.muted : theme.mark}
              />
            ))}
            {shown.map((alert) => {
              const top = y(alert.raised_ns);
              const bottom = Math.max(y(alert.ended_ns ?? to), top + 2);
              return (
                <path
                  key={alert.raised_ns}
                  d={`M ${BRACKETS - 4} ${top} H 4 V ${bottom} H ${BRACKETS - 4}`}
                  fill="none"
                  stroke={theme.severity.error}
                  strokeWidth={1.5}
                />
              );
            })}
          </g>
          <g transform={`translate(${TIMES + BRACKETS}, 0)`}>
            <rect width={WIDTH} height={HEIGHT} fill={theme.raised} />
            {rehearsal.bins.map((bin, n) => {
              if (typeof bin.most !== "number" || typeof bin.least !== "number") return null;
              const worst = rehearsal.bound.side === "above" ? bin.most : bin.least;
              const beyond = rehearsal.bound.side === "above" ? worst > bound : worst < bound;
              const [a, b] = [x(Math.min(0, worst)), x(Math.max(0, worst))];
              return (
                <rect
                  key={bin.from_ns}
                  x={a}
                  y={n * each}
                  width={Math.max(b - a, worst === 0 ? 0 : 1)}
                  height={Math.max(each, 0.8)}
                  fill={beyond ? theme.severity.error : theme.severity.info}
                />
              );
            })}
            <line x1={line} x2={line} y1={-4} y2={HEIGHT + 4} stroke={theme.accent} strokeWidth={2} />
            <rect
              x={line - 8}
              y={-6}
              width={16}
              height={HEIGHT + 12}
              fill="transparent"
              style={{ cursor: onBound ? "ew-resize" : "default" }}
              role="slider"
              tabIndex={onBound ? 0 : -1}
              aria-label="bound"
              aria-valuenow={bound}
              aria-valuemin={scale.from}
              aria-valuemax={scale.to}
              aria-disabled={!onBound}
              onKeyDown={keys}
              onPointerDown={(event) => {
                if (!onBound) return;
                event.currentTarget.ownerSVGElement?.setPointerCapture(event.pointerId);
                setHeld({ x: line, scale });
              }}
            />
          </g>
        </svg>
        <ol aria-label="Would have been raised">
          {entries.map((entry, n) => {
            const ns = BigInt(Math.round(entry.at));
            const when = `${date(ns, zone).slice(5)} ${clock(ns, zone, 0)}`;
            if (!entry.alert)
              return (
                <li key={`m${n}`} className="mark" style={{ top: lines[n] }}>
                  {when} · {entry.mark}
                </li>
              );
            const { alert } = entry;
            const end = BigInt(Math.round(alert.ended_ns ?? to));
            const groups = alert.groups.filter((group) => group !== "");
            const more = alert.group_count - alert.groups.length;
            return (
              <li key={alert.raised_ns} style={{ top: lines[n] }} data-testid="raised">
                <Link
                  to={compareAddress({ from: formatNs(ns - 300_000_000_000n), to: formatNs(end) })}
                  title="what was different?"
                >
                  {when}
                </Link>{" "}
                for {lasted(alert)}, to {figure(alert.worst, unit)}{" "}
                <Muted>
                  {groups.join(", ")}
                  {more > 0 && ` and ${more} more`}
                </Muted>
              </li>
            );
          })}
          {entries.length === 0 && <li>It would not have been raised.</li>}
        </ol>
      </Both>
      {rehearsal.alert_count > shown.length && (
        <Muted as="p">
          The last {shown.length} of {rehearsal.alert_count} are listed.
        </Muted>
      )}
    </div>
  );
}
