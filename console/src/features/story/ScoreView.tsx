import { useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import styled, { useTheme } from "styled-components";
import type { LogEvent, Score } from "../../api/types";
import { useCompact } from "../../app/compact";
import { space, type, type Palette } from "../../app/tokens";
import { Muted, Quiet } from "../../ui/controls";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";
import { beside, between, columnsAt, duration, extent, FOLD, placed, ROW, type Placed, type Shown } from "./model";

/** Pixels drawn above and below what is seen. */
const BEYOND = 600;
/** Height of the columns' names. */
const HEAD = 30;

const Scroll = styled.div`
  overflow: auto;
  min-height: 0;
  height: 100%;
  position: relative;
  &:focus-visible {
    outline: 2px solid ${(p) => p.theme.accent};
    outline-offset: -2px;
  }
`;

const Names = styled.div`
  position: sticky;
  top: 0;
  z-index: 2;
  height: ${HEAD}px;
  background: ${(p) => p.theme.ground};
  border-bottom: 1px solid ${(p) => p.theme.line};
  > * {
    position: absolute;
    top: 4px;
    transform: translateX(-50%);
    max-width: 110px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-weight: 650;
  }
`;

const Line = styled.li<{ $chosen: boolean }>`
  position: absolute;
  left: 0;
  right: 0;
  height: ${ROW}px;
  display: grid;
  align-items: center;
  gap: ${space.s};
  padding-right: ${space.l};
  cursor: pointer;
  font-family: ${type.mono};
  font-size: ${type.small};
  background: ${(p) => (p.$chosen ? p.theme.chosen : "transparent")};
  &:hover {
    background: ${(p) => (p.$chosen ? p.theme.chosen : p.theme.raised)};
  }
  > * {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
`;

const Wrong = styled.span`
  color: ${(p) => p.theme.severity.warn};
`;

const Operation = styled.span<{ $failed: boolean }>`
  color: ${(p) => (p.$failed ? p.theme.severity.error : p.theme.text)};
  font-family: ${type.text};
  font-weight: 600;
`;

interface Props {
  score: Score;
  events: LogEvent[];
  shown: Shown;
  onService: (service: string) => void;
  onOpenBundle: (key: string) => void;
  onEvent: (event: LogEvent) => void;
}

/** Services side by side, time downward, the list level with it. Only what is seen is drawn, however long it is. */
export function ScoreView({ score, events, shown, onService, onOpenBundle, onEvent }: Props) {
  const theme = useTheme();
  const slim = useCompact();
  const scroll = useRef<HTMLDivElement>(null);
  const [view, setView] = useState({ top: 0, height: 800, width: 1200 });
  const [chosen, setChosen] = useState(-1);
  useLayoutEffect(() => {
    const box = scroll.current;
    if (!box) return;
    const measure = () => setView({ top: box.scrollTop, height: box.clientHeight, width: box.clientWidth });
    measure();
    const watched = new ResizeObserver(measure);
    watched.observe(box);
    return () => watched.disconnect();
  }, []);
  const { rows, height } = useMemo(() => placed(score, events, shown), [score, events, shown]);
  const { xs, width } = columnsAt(score, view.width * 0.5, slim);
  const top = Math.max(view.top - BEYOND, 0);
  const bottom = Math.min(view.top + view.height + BEYOND, height);
  const seen = useMemo(() => between(rows, top, bottom), [rows, top, bottom]);
  const at = rows.findIndex((placed) => placed.index === chosen);
  const go = (to: number) => {
    const next = rows[Math.min(Math.max(to, 0), rows.length - 1)];
    if (!next) return;
    setChosen(next.index);
    const box = scroll.current;
    if (!box) return;
    if (next.y - ROW < box.scrollTop) box.scrollTop = next.y - ROW;
    if (next.y + ROW + HEAD > box.scrollTop + box.clientHeight) box.scrollTop = next.y + ROW + HEAD - box.clientHeight;
  };
  const act = (placed: Placed | undefined) => {
    if (!placed) return;
    const bar = typeof placed.row.bar === "number" ? score.bars[placed.row.bar] : undefined;
    const event = events[placed.row.event];
    if (bar?.bundle && placed.row.kind !== "event") onOpenBundle(bar.bundle.key);
    else if (event) onEvent(event);
  };
  const key = (e: KeyboardEvent) => {
    const steps: Record<string, number> = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1, PageDown: 20, PageUp: -20 };
    const step = steps[e.key];
    if (step !== undefined) go(at < 0 && step > 0 ? 0 : at + step);
    else if (e.key === "Home") go(0);
    else if (e.key === "End") go(rows.length - 1);
    else if (e.key === "Enter") act(rows[at]);
    else return;
    e.preventDefault();
  };
  const list = slim ? `${width}px 14px minmax(0, 1fr)` : `${width}px 14px 104px minmax(0, 1fr) auto`;
  return (
    <Scroll
      ref={scroll}
      role="group"
      tabIndex={0}
      aria-label="The story, row by row"
      aria-activedescendant={chosen >= 0 ? `row-${chosen}` : undefined}
      data-testid="score"
      onKeyDown={key}
      onScroll={(e) => setView({ ...view, top: e.currentTarget.scrollTop })}
    >
      {!slim && (
        <Names>
          {score.columns.map((column, n) => {
            const name = column.services.length > 1 ? `${column.services.length} others` : column.services[0] || "–";
            const only = shown.service === column.services[0];
            return (
              <Quiet
                key={name}
                $on
                style={{ left: xs[n] }}
                aria-pressed={only}
                aria-label={`Only ${name}`}
                onPress={() => onService(only ? "" : (column.services[0] ?? ""))}
              >
                {name}
              </Quiet>
            );
          })}
        </Names>
      )}
      <div style={{ position: "relative", height: height + ROW }}>
        <ol style={{ listStyle: "none", margin: 0, padding: 0 }}>
          {seen.map(({ row, index, y }) => {
            const { text, note } = beside(row, score, events);
            const event = events[row.event];
            const bar = typeof row.bar === "number" ? score.bars[row.bar] : undefined;
            return (
              <Line
                key={index}
                id={`row-${index}`}
                $chosen={index === chosen}
                aria-current={index === chosen || undefined}
                style={{ top: y - ROW / 2, gridTemplateColumns: list }}
                onClick={() => {
                  setChosen(index);
                  act(rows.find((placed) => placed.index === index));
                }}
              >
                <span style={{ paddingLeft: slim ? 0 : space.s }}>
                  {!slim && <Muted>{row.at_ns === 0 ? "0" : `+${duration(row.at_ns)}`}</Muted>}
                </span>
                <span>{row.kind === "event" && event && <Glyph severity={event.severity} />}</span>
                {!slim && <Muted>{row.kind === "end" && !text ? "" : event?.service}</Muted>}
                <span title={text}>
                  {row.kind === "event" ? (
                    <Message text={text.split("\n")[0] ?? ""} />
                  ) : (
                    <Operation $failed={bar?.outcome === "failed"}>{text}</Operation>
                  )}{" "}
                  <Muted>{note}</Muted>
                </span>
                {!slim && <Wrong>{score.first_wrong === row.event && row.kind !== "end" ? "first wrong" : ""}</Wrong>}
              </Line>
            );
          })}
          {seen.map(
            ({ row, index, foldY }) =>
              foldY !== undefined && (
                <li
                  key={`fold ${index}`}
                  style={{ position: "absolute", top: foldY - FOLD / 2, left: width + 22, height: FOLD }}
                >
                  <Muted>{duration(row.fold_ns ?? 0)} pass</Muted>
                </li>
              ),
          )}
        </ol>
        <svg
          width={width}
          height={Math.max(bottom - top, 0)}
          viewBox={`0 ${top} ${width} ${Math.max(bottom - top, 1)}`}
          style={{ position: "absolute", top, left: 0, pointerEvents: "none" }}
          aria-hidden
        >
          <Drawing
            score={score}
            events={events}
            rows={rows}
            seen={seen}
            xs={xs}
            slim={slim}
            span={[top, bottom]}
            theme={theme}
          />
        </svg>
      </div>
    </Scroll>
  );
}

/** Lifelines, folds, bars, arrows and glyphs of what is seen. */
function Drawing(props: {
  score: Score;
  events: LogEvent[];
  rows: Placed[];
  seen: Placed[];
  xs: number[];
  slim: boolean;
  span: [number, number];
  theme: Palette;
}) {
  const { score, events, rows, seen, xs, slim, theme } = props;
  const [top, bottom] = props.span;
  const wide = slim ? 5 : 10;
  const step = slim ? 3 : 8;
  const left = (column: number, slot: number) => (xs[column] ?? 0) - wide / 2 + Math.min(slot, 4) * step;
  const fills = { failed: theme.severity.error, open: theme.ground, well: theme.calmBar, nothing: theme.calmBar };
  const bars = score.bars
    .map((bar, n) => ({ bar, n, at: extent(bar, rows) }))
    .filter(({ at }) => at && at.to >= top && at.from <= bottom);
  const yOf = new Map(seen.map((placed) => [placed.index, placed.y]));
  return (
    <>
      {xs.map((x, n) => (
        <line key={n} x1={x} x2={x} y1={top} y2={bottom} stroke={theme.line} />
      ))}
      {seen.map(
        ({ index, foldY }) =>
          foldY !== undefined && (
            <g key={index} stroke={theme.faint} strokeDasharray="2 4">
              <line x1={4} x2="100%" y1={foldY - 5} y2={foldY - 5} />
              <line x1={4} x2="100%" y1={foldY + 5} y2={foldY + 5} />
            </g>
          ),
      )}
      {bars.map(({ bar, n, at }) => (
        <g key={n} data-bar={bar.operation}>
          <rect
            x={left(bar.column, bar.slot)}
            y={at?.from}
            width={bar.bundle ? wide + 4 : wide}
            height={Math.max((at?.to ?? 0) - (at?.from ?? 0), 6)}
            rx={2}
            fill={fills[bar.outcome]}
            fillOpacity={bar.outcome === "failed" ? 0.55 : 1}
            stroke={bar.outcome === "open" || bar.parent_missing ? theme.muted : "none"}
            strokeDasharray={bar.outcome === "open" || bar.parent_missing ? "3 3" : undefined}
          />
          {bar.critical && (
            <rect
              x={left(bar.column, bar.slot) - 3}
              y={at?.from}
              width={1.5}
              height={Math.max((at?.to ?? 0) - (at?.from ?? 0), 6)}
              fill={theme.accent}
            />
          )}
        </g>
      ))}
      {!slim &&
        score.arrows.map((arrow, n) => {
          const y = yOf.get(arrow.row);
          const bar = score.bars[arrow.bar];
          if (y === undefined || !bar) return null;
          const right = arrow.to > arrow.from;
          const from = (xs[arrow.from] ?? 0) + (right ? wide / 2 + 2 : -wide / 2 - 4);
          const to = (xs[arrow.to] ?? 0) + (right ? -wide / 2 - 4 : wide / 2 + 2);
          const failed = arrow.kind === "return" && bar.outcome === "failed";
          const colour = arrow.against_clock ? theme.severity.warn : failed ? theme.severity.error : theme.faint;
          const tip = right ? -5 : 5;
          return (
            <g key={n} stroke={colour} fill={colour}>
              <line x1={from} x2={to} y1={y} y2={y} strokeDasharray={arrow.kind === "link" ? "4 3" : undefined} />
              <path d={`M${to} ${y} l${tip} -3.5 v7 Z`} stroke="none" />
            </g>
          );
        })}
      {seen.map(({ row, index, y }) => {
        const event = events[row.event];
        if (row.kind !== "event" || !event) return null;
        const bar = typeof row.bar === "number" ? score.bars[row.bar] : undefined;
        const x = bar && bar.column === row.column ? left(bar.column, bar.slot) + wide / 2 : (xs[row.column] ?? 0);
        const r = slim ? 2.5 : 4;
        const look = { fill: theme.severity[event.severity], stroke: theme.ground, strokeWidth: 1 };
        // Each severity has the shape it has in the list, so that colour is never alone.
        if (event.severity === "warn")
          return <path key={index} d={`M${x} ${y - r - 1} l${r + 1} ${2 * r + 1} h${-2 * r - 2} Z`} {...look} />;
        if (event.severity === "error")
          return <rect key={index} x={x - r} y={y - r} width={2 * r} height={2 * r} {...look} />;
        if (event.severity === "fatal")
          return (
            <path
              key={index}
              d={`M${x} ${y - r - 1} l${r + 1} ${r + 1} l${-r - 1} ${r + 1} l${-r - 1} ${-r - 1} Z`}
              {...look}
            />
          );
        return <circle key={index} cx={x} cy={y} r={r - 1} {...look} />;
      })}
    </>
  );
}
