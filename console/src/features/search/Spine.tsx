import { scaleLinear } from "@visx/scale";
import { memo, useEffect, useRef, useState } from "react";
import styled, { useTheme } from "styled-components";
import { clock, date, hourMinute, type Zone } from "../../api/time";
import { radius, space, type } from "../../app/tokens";
import { Button } from "../../ui/controls";
import type { Bin } from "./bins";
import { boxOf, placeOf, ticks, timeAt, type Axis } from "./scale";
import { number } from "../../ui/number";
import { useDrag } from "./useDrag";

/** How deep the spine is, and the part of it where times and names stand and no bar reaches. */
const UPRIGHT = { depth: 188, labels: 84 };
const LYING = { depth: 74, labels: 16 };
/** Errors have a share of the depth, and a scale, of their own. */
const ERRORS = 26;
const HANDLE = 24;

const Column = styled.div<{ $lying: boolean }>`
  position: relative;
  ${(p) => (p.$lying ? `height: ${LYING.depth}px; width: 100%` : `width: ${UPRIGHT.depth}px; height: 100%`)};
  ${(p) => (p.$lying ? "border-bottom" : "border-right")}: 1px solid ${(p) => p.theme.line};
  touch-action: none;
  user-select: none;
  svg {
    display: block;
    position: absolute;
    inset: 0;
  }
  text {
    font-size: 11px;
    fill: ${(p) => p.theme.muted};
  }
`;

const Handle = styled.div<{ $lying: boolean }>`
  position: absolute;
  ${(p) => (p.$lying ? `top: 0; bottom: 0; width: ${HANDLE}px` : `left: 0; right: 0; height: ${HANDLE}px`)};
  ${(p) => (p.$lying ? "border-top" : "border-left")}: 3px solid ${(p) => p.theme.accent};
  background: color-mix(in srgb, ${(p) => p.theme.accent} 10%, transparent);
  cursor: grab;
`;

/** Where arrow keys read the counts; it lies over the bars and lets the pointer through to them. */
const Reader = styled.div`
  position: absolute;
  inset: 0;
  pointer-events: none;
`;

const Tip = styled.div`
  position: absolute;
  z-index: 3;
  display: flex;
  align-items: center;
  gap: ${space.s};
  padding: ${space.s};
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  white-space: nowrap;
  font-size: ${type.small};
  pointer-events: none;
`;

const Confirm = styled(Tip)`
  border-color: ${(p) => p.theme.accent};
  pointer-events: auto;
`;

/** A moment worth seeing, pinned to the spine. */
export interface Pin {
  ns: bigint;
  name: string;
}

interface Props {
  bins: Bin[];
  axis: Omit<Axis, "length">;
  /** Whether it lies above the list, as at phone width, earliest left. */
  lying: boolean;
  /** The times of the first and last row that the list shows now. */
  shown: [bigint, bigint] | undefined;
  pins: Pin[];
  zone: Zone;
  onSeek: (ns: bigint) => void;
  onRange: (fromNs: bigint, toNs: bigint) => void;
}

/** A bin in words. */
function reported(bin: Bin, zone: Zone): string {
  return `${clock(bin.start, zone, 0)} · ${number(bin.total)} events, ${number(bin.errors)} errors, ${number(bin.warnings)} warnings`;
}

/** The histogram along the list: map, scroll bar and range chooser in one. */
export function Spine({ bins, axis: ends, lying, shown, pins, zone, onSeek, onRange }: Props) {
  const { depth: DEPTH, labels: LABELS } = lying ? LYING : UPRIGHT;
  const box = useRef<HTMLDivElement>(null);
  const [length, setLength] = useState(0);
  const { drag, begin, move, end, leave } = useDrag(4);
  const [pointer, setPointer] = useState<number>();
  const [read, setRead] = useState<number>();
  const seeking = useRef(false);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setLength(lying ? element.clientWidth : element.clientHeight));
    watch.observe(element);
    return () => watch.disconnect();
  }, [lying]);

  const theme = useTheme();
  const axis: Axis = { ...ends, length, newestFirst: ends.newestFirst && !lying };
  const placeIn = (e: React.PointerEvent) => {
    const edge = box.current?.getBoundingClientRect();
    return lying ? e.clientX - (edge?.left ?? 0) : e.clientY - (edge?.top ?? 0);
  };
  const selected =
    drag && ([timeAt(axis, drag.from), timeAt(axis, drag.to)].sort((a, b) => (a < b ? -1 : 1)) as [bigint, bigint]);
  const start = shown && Math.min(placeOf(axis, shown[0]), placeOf(axis, shown[1]));
  const extent = shown && Math.max(Math.abs(placeOf(axis, shown[0]) - placeOf(axis, shown[1])), 1);
  const handleAt =
    start === undefined
      ? 0
      : Math.min(Math.max(start + (extent ?? 0) / 2 - HANDLE / 2, 0), Math.max(length - HANDLE, 0));
  const at = (ns: bigint) => bins.findIndex((b) => b.start <= ns && ns < b.end);
  const under = pointer === undefined ? read : at(timeAt(axis, pointer));
  const bin = under === undefined ? undefined : bins[under];
  const tipAt = bin ? placeOf(axis, bin.start) : 0;
  const confirm = () => {
    if (selected) onRange(selected[0], selected[1]);
    leave();
  };
  const step = (bins[0] ? bins[0].end - bins[0].start : 1n) * (axis.newestFirst ? -1n : 1n);
  const forth = lying ? "ArrowRight" : "ArrowDown";
  const back = lying ? "ArrowLeft" : "ArrowUp";
  const slide = (e: React.KeyboardEvent) => {
    const by = { [forth]: step, [back]: -step, PageDown: step * 10n, PageUp: -step * 10n }[e.key];
    if (by === undefined || !shown) return;
    e.preventDefault();
    const target = shown[0] + by;
    onSeek(target < ends.fromNs ? ends.fromNs : target > ends.toNs ? ends.toNs : target);
  };
  const readAlong = (e: React.KeyboardEvent) => {
    const one = axis.newestFirst ? -1 : 1;
    const now = read ?? (axis.newestFirst ? bins.length : -1);
    const by = { [forth]: one, [back]: -one, PageDown: one * 10, PageUp: -one * 10 }[e.key];
    if (by !== undefined) {
      e.preventDefault();
      setRead(Math.min(Math.max(now + by, 0), bins.length - 1));
    } else if (e.key === "Enter" && bin) {
      e.preventDefault();
      e.stopPropagation();
      onRange(bin.start, bin.end);
    }
  };
  const tipStyle = lying
    ? { top: "100%", left: Math.min(Math.max(tipAt - 120, 4), Math.max(length - 290, 4)) }
    : { left: "calc(100% + 8px)", top: Math.min(Math.max(tipAt - 16, 0), Math.max(length - 34, 0)) };

  return (
    <Column
      $lying={lying}
      ref={box}
      data-testid="spine"
      onPointerDown={(e) => {
        if ((e.target as HTMLElement).closest("button, [role=slider]")) return;
        begin(e, placeIn(e));
      }}
      onPointerMove={(e) => {
        const place = placeIn(e);
        setPointer(place);
        if (seeking.current) onSeek(timeAt(axis, place));
        else move(place);
      }}
      onPointerUp={end}
      onPointerLeave={() => setPointer(undefined)}
      onKeyDown={(e) => {
        if (e.key === "Escape") leave();
      }}
    >
      <svg
        width={lying ? length : DEPTH}
        height={lying ? DEPTH : length}
        role="img"
        aria-label="Events over time; the same counts stand in the table"
      >
        <Bars bins={bins} from={ends.fromNs} to={ends.toNs} first={axis.newestFirst} length={length} lying={lying} />
        <Labels axis={axis} pins={pins} lying={lying} zone={zone} />
        {shown && start !== undefined && (
          <rect {...boxOf(lying, start, extent ?? 1, 0, DEPTH - 1)} fill="none" stroke={theme.accent} strokeWidth={1} />
        )}
        {bin && read === under && pointer === undefined && (
          <rect
            {...boxOf(
              lying,
              Math.min(placeOf(axis, bin.start), placeOf(axis, bin.end)),
              Math.max(Math.abs(placeOf(axis, bin.start) - placeOf(axis, bin.end)), 2),
              0,
              DEPTH - 1,
            )}
            fill={theme.accent}
            opacity={0.25}
          />
        )}
        {drag && (
          <rect
            {...boxOf(lying, Math.min(drag.from, drag.to), Math.abs(drag.to - drag.from), LABELS, DEPTH - LABELS)}
            fill={theme.accent}
            opacity={0.25}
          />
        )}
      </svg>
      {bins.length > 0 && (
        <Reader
          role="slider"
          tabIndex={0}
          aria-label="Counts over time; Enter narrows the range"
          aria-orientation={lying ? "horizontal" : "vertical"}
          aria-valuemin={0}
          aria-valuemax={bins.length - 1}
          aria-valuenow={read ?? 0}
          aria-valuetext={read !== undefined && bins[read] ? reported(bins[read], zone) : "arrow keys read the counts"}
          onKeyDown={readAlong}
          onBlur={() => setRead(undefined)}
        />
      )}
      {shown && (
        <Handle
          $lying={lying}
          role="slider"
          tabIndex={0}
          aria-label="What the list shows"
          aria-orientation={lying ? "horizontal" : "vertical"}
          aria-valuemin={0}
          aria-valuemax={100}
          aria-valuenow={length ? Math.round((handleAt / length) * 100) : 0}
          aria-valuetext={`${clock(shown[0], zone, 0)} to ${clock(shown[1], zone, 0)}`}
          style={lying ? { left: handleAt } : { top: handleAt }}
          onKeyDown={slide}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            seeking.current = true;
          }}
          onPointerUp={() => (seeking.current = false)}
        />
      )}
      {drag?.done && selected ? (
        <Confirm
          style={
            lying
              ? { top: "100%", left: 4 }
              : {
                  left: "calc(100% + 8px)",
                  top: Math.min(Math.max(Math.min(drag.from, drag.to), 0), Math.max(length - 50, 0)),
                }
          }
        >
          {clock(selected[0], zone, 0)} to {clock(selected[1], zone, 0)}
          <Button $chief onPress={confirm} autoFocus>
            Only this
          </Button>
          <Button onPress={leave}>Leave</Button>
        </Confirm>
      ) : (
        bin && (
          <Tip style={tipStyle} data-testid="counted">
            {reported(bin, zone)}
          </Tip>
        )
      )}
    </Column>
  );
}

/** The bars alone: they change with the counts, not with every row that is scrolled past. */
const Bars = memo(function Bars(props: {
  bins: Bin[];
  from: bigint;
  to: bigint;
  first: boolean;
  length: number;
  lying: boolean;
}) {
  const { bins, lying } = props;
  const theme = useTheme();
  const { depth: DEPTH, labels: LABELS } = lying ? LYING : UPRIGHT;
  const axis: Axis = { fromNs: props.from, toNs: props.to, newestFirst: props.first, length: props.length };
  const calmMax = Math.max(1, ...bins.map((b) => b.total - b.errors));
  const badMax = Math.max(1, ...bins.map((b) => b.errors));
  const calm = scaleLinear<number>({ domain: [0, calmMax], range: [0, DEPTH - LABELS - ERRORS - 6] });
  const bad = scaleLinear<number>({ domain: [0, badMax], range: [0, ERRORS - 4] });
  return bins.map((bin) => {
    const a = placeOf(axis, bin.start);
    const b = placeOf(axis, bin.end);
    const along = Math.min(a, b);
    const long = Math.max(Math.abs(a - b) - (Math.abs(a - b) > 3 ? 1 : 0), 1);
    // Upright, calm grows to the left and errors stand right of it; lying, calm grows up and errors hang below.
    let edge = DEPTH - ERRORS - 4;
    return (
      <g key={String(bin.start)}>
        {[...bin.parts].reverse().map((part) => {
          const deep = calm(part.count);
          edge -= deep;
          return deep > 0 && <rect key={part.name} {...boxOf(lying, along, long, edge, deep)} fill={part.colour} />;
        })}
        {bin.errors > 0 && (
          <rect
            {...boxOf(lying, along, long, DEPTH - ERRORS - 1, Math.max(bad(bin.errors), 1))}
            fill={theme.severity.error}
          />
        )}
      </g>
    );
  });
});

/** Characters of a line of a pinned name, and pixels from one line to the next. */
const NAME = { line: 14, height: 12 };

/** A pinned name in one line or two: what shows two moments apart often stands at the end. */
function linesOf(name: string): string[] {
  if (name.length <= NAME.line) {
    return [name];
  }
  // As early as the rest fits, so that what belongs together at the end stays together; else as late as there is room.
  const early = name.indexOf(" ", name.length - NAME.line - 1);
  const late = name.lastIndexOf(" ", NAME.line);
  const space = early >= 0 && early <= NAME.line ? early : late;
  const [first, rest] = space > 0 ? [name.slice(0, space), name.slice(space + 1)] : [name.slice(0, 13), name.slice(13)];
  return [first, rest.length > NAME.line ? `${rest.slice(0, NAME.line - 1)}…` : rest];
}

interface Placed extends Pin {
  lines: string[];
  /** Where its line crosses the spine, and the baseline of its first line of text. */
  place: number;
  label: number;
}

/**
 * Times, and what is pinned. Names stand beside their dot, left of where lines and bars begin, and make room for one
 * another, so that no name lies on a line, a bar or another name.
 */
function Labels({ axis, pins, lying, zone }: { axis: Axis; pins: Pin[]; lying: boolean; zone: Zone }) {
  const theme = useTheme();
  const DEPTH = lying ? LYING.depth : UPRIGHT.depth;
  const pinned = pins
    .map((pin) => ({ ...pin, lines: linesOf(pin.name), place: placeOf(axis, pin.ns), label: 0 }))
    .sort((a, b) => a.place - b.place)
    .reduce<Placed[]>((out, pin) => {
      const above = out[out.length - 1];
      const free = above ? above.label + above.lines.length * NAME.height + 2 : 12;
      return [...out, { ...pin, label: Math.max(pin.place + 4, free) }];
    }, []);
  const below = (p: Placed) => p.label + (p.lines.length - 1) * NAME.height;
  const clear = (place: number) =>
    lying || pinned.every((p) => (place < p.label - 12 || place > below(p) + 12) && Math.abs(p.place - place) > 10);
  const long = Number(axis.toNs - axis.fromNs) > 2 * 86_400e9;
  return (
    <>
      {ticks(axis, lying ? 72 : 64)
        .map((t) => [t, placeOf(axis, t)] as const)
        .filter(([, place]) => clear(place) && (!lying || (place > 16 && place < axis.length - 20)))
        .map(([t, place]) => (
          <text key={String(t)} x={lying ? place - 15 : 6} y={lying ? 11 : place + 4}>
            {long ? date(t, zone).slice(5) : hourMinute(t, zone)}
          </text>
        ))}
      {pinned.map((pin) => (
        <g key={`${pin.name} ${pin.ns}`}>
          <line
            x1={lying ? pin.place : UPRIGHT.labels}
            x2={lying ? pin.place : DEPTH}
            y1={lying ? 14 : pin.place}
            y2={lying ? DEPTH : pin.place}
            stroke={theme.mark}
            strokeDasharray="3 3"
          />
          <circle cx={lying ? pin.place : 4} cy={lying ? 17 : pin.place} r={3} fill={theme.mark} />
          {!lying && (
            <text style={{ fill: theme.mark }}>
              {pin.lines.map((line, n) => (
                <tspan key={n} x={10} y={pin.label + n * NAME.height}>
                  {line}
                </tspan>
              ))}
            </text>
          )}
          <title>{pin.name}</title>
        </g>
      ))}
    </>
  );
}
