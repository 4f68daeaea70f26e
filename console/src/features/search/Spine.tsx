import { scaleLinear } from "@visx/scale";
import { useEffect, useRef, useState } from "react";
import styled, { useTheme } from "styled-components";
import { clock, hourMinute, date, type Zone } from "../../api/time";
import type { HistogramAnswer } from "../../api/types";
import { useCompact } from "../../app/compact";
import { radius, space, type } from "../../app/tokens";
import { Button } from "../../ui/controls";
import { placeOf, ticks, timeAt, type Axis } from "./scale";

/** Widths of the whole and of the part on its left where times and names stand, where no bar reaches. */
const WIDE = { width: 188, labels: 84 };
const COMPACT = { width: 64, labels: 0 };
/** Errors have a share of the width, and a scale, of their own. */
const ERRORS = 26;
const HANDLE = 24;

const Column = styled.div<{ $width: number }>`
  position: relative;
  width: ${(p) => p.$width}px;
  border-right: 1px solid ${(p) => p.theme.line};
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

const Handle = styled.div`
  position: absolute;
  left: 0;
  right: 0;
  height: ${HANDLE}px;
  border-left: 3px solid ${(p) => p.theme.accent};
  background: color-mix(in srgb, ${(p) => p.theme.accent} 10%, transparent);
  cursor: grab;
`;

const Confirm = styled.div`
  position: absolute;
  left: calc(100% + 8px);
  z-index: 3;
  display: flex;
  align-items: center;
  gap: ${space.s};
  padding: ${space.s};
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.accent};
  border-radius: ${radius};
  white-space: nowrap;
  font-size: ${type.small};
`;

const Tip = styled(Confirm)`
  pointer-events: none;
  border-color: ${(p) => p.theme.line};
`;

/** A moment worth seeing, pinned to the spine. */
export interface Pin {
  ns: bigint;
  name: string;
}

interface Props {
  counts: HistogramAnswer | undefined;
  axis: Omit<Axis, "length">;
  /** The times of the first and last row that the list shows now. */
  shown: [bigint, bigint] | undefined;
  pins: Pin[];
  zone: Zone;
  onSeek: (ns: bigint) => void;
  onRange: (fromNs: bigint, toNs: bigint) => void;
}

const sum = (counts: number[]) => counts.reduce((a, b) => a + b, 0);

/** The histogram turned upright: map, scroll bar and range chooser of the list beside it. */
export function Spine({ counts, axis: ends, shown, pins, zone, onSeek, onRange }: Props) {
  const theme = useTheme();
  const { width: WIDTH, labels: LABELS } = useCompact() ? COMPACT : WIDE;
  const box = useRef<HTMLDivElement>(null);
  const [height, setHeight] = useState(0);
  const [drag, setDrag] = useState<{ from: number; to: number; done: boolean }>();
  const [pointer, setPointer] = useState<number>();
  const seeking = useRef(false);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const watch = new ResizeObserver(() => setHeight(element.clientHeight));
    watch.observe(element);
    return () => watch.disconnect();
  }, []);

  const axis: Axis = { ...ends, length: height };
  const bins = counts
    ? counts.buckets.map((severities, i) => {
        const start = BigInt(counts.from_ns) + BigInt(i) * BigInt(counts.step_ns);
        return { start, end: start + BigInt(counts.step_ns), severities };
      })
    : [];
  const calmMax = Math.max(1, ...bins.map((b) => sum(b.severities.slice(0, 4))));
  const badMax = Math.max(1, ...bins.map((b) => (b.severities[4] ?? 0) + (b.severities[5] ?? 0)));
  const calm = scaleLinear<number>({ domain: [0, calmMax], range: [0, WIDTH - LABELS - ERRORS - 6] });
  const bad = scaleLinear<number>({ domain: [0, badMax], range: [0, ERRORS] });

  // A name stands above its line; where two would meet, the later one stands below the one before.
  const pinned = pins
    .map((pin) => ({ ...pin, y: placeOf(axis, pin.ns), labelY: 0 }))
    .sort((a, b) => a.y - b.y)
    .reduce<{ ns: bigint; name: string; y: number; labelY: number }[]>((out, pin) => {
      const above = out[out.length - 1];
      const wanted = Math.max(pin.y - 5, above ? above.labelY + 13 : 12);
      return [...out, { ...pin, labelY: wanted > pin.y - 4 && wanted < pin.y + 12 ? pin.y + 12 : wanted }];
    }, []);
  const clear = (y: number) => pinned.every((p) => Math.abs(p.labelY - y) > 12 && Math.abs(p.y - y) > 10);

  const placeIn = (clientY: number) => clientY - (box.current?.getBoundingClientRect().top ?? 0);
  const selected =
    drag && ([timeAt(axis, drag.from), timeAt(axis, drag.to)].sort((a, b) => (a < b ? -1 : 1)) as [bigint, bigint]);
  const top = shown && Math.min(placeOf(axis, shown[0]), placeOf(axis, shown[1]));
  const extent = shown && Math.max(Math.abs(placeOf(axis, shown[0]) - placeOf(axis, shown[1])), 1);
  const handleTop =
    top === undefined ? 0 : Math.min(Math.max(top + (extent ?? 0) / 2 - HANDLE / 2, 0), Math.max(height - HANDLE, 0));
  const under =
    pointer === undefined
      ? undefined
      : bins.find((b) => b.start <= timeAt(axis, pointer) && timeAt(axis, pointer) < b.end);
  const confirm = () => {
    if (selected) onRange(selected[0], selected[1]);
    setDrag(undefined);
  };
  const step = BigInt(counts?.step_ns ?? 1) * (ends.newestFirst ? -1n : 1n);
  const slide = (e: React.KeyboardEvent) => {
    const by = { ArrowDown: step, ArrowUp: -step, PageDown: step * 10n, PageUp: -step * 10n }[e.key];
    if (by === undefined || !shown) return;
    e.preventDefault();
    const target = shown[0] + by;
    onSeek(target < ends.fromNs ? ends.fromNs : target > ends.toNs ? ends.toNs : target);
  };

  return (
    <Column
      $width={WIDTH}
      ref={box}
      data-testid="spine"
      onPointerDown={(e) => {
        if ((e.target as HTMLElement).closest("button, [role=slider]")) return;
        e.currentTarget.setPointerCapture(e.pointerId);
        const at = placeIn(e.clientY);
        setDrag({ from: at, to: at, done: false });
      }}
      onPointerMove={(e) => {
        const at = placeIn(e.clientY);
        setPointer(at);
        if (seeking.current) onSeek(timeAt(axis, at));
        else if (drag && !drag.done) setDrag({ ...drag, to: at });
      }}
      onPointerUp={() => {
        if (drag && !drag.done) setDrag(Math.abs(drag.to - drag.from) < 4 ? undefined : { ...drag, done: true });
      }}
      onPointerLeave={() => setPointer(undefined)}
      onKeyDown={(e) => {
        if (e.key === "Escape") setDrag(undefined);
      }}
    >
      <svg width={WIDTH} height={height} role="img" aria-label="Events over time; the same counts stand in the table">
        {ticks(axis, 64)
          .filter((t) => LABELS > 0 && clear(placeOf(axis, t)))
          .map((t) => (
            <text key={String(t)} x={6} y={placeOf(axis, t) + 4}>
              {Number(ends.toNs - ends.fromNs) > 2 * 86_400e9 ? date(t, zone).slice(5) : hourMinute(t, zone)}
            </text>
          ))}
        {bins.map(({ start, end, severities }) => {
          const a = placeOf(axis, start);
          const b = placeOf(axis, end);
          const y = Math.min(a, b);
          const h = Math.max(Math.abs(a - b) - (Math.abs(a - b) > 3 ? 1 : 0), 1);
          const right = WIDTH - ERRORS - 4;
          const warn = calm(severities[3] ?? 0);
          const info = calm(severities[2] ?? 0);
          const low = calm((severities[0] ?? 0) + (severities[1] ?? 0));
          const errors = (severities[4] ?? 0) + (severities[5] ?? 0);
          return (
            <g key={String(start)}>
              {warn > 0 && <rect x={right - warn} y={y} width={warn} height={h} fill={theme.severity.warn} />}
              <rect x={right - warn - info} y={y} width={info} height={h} fill={theme.calmBar} />
              <rect x={right - warn - info - low} y={y} width={low} height={h} fill={theme.quietBar} />
              {errors > 0 && (
                <rect x={right + 3} y={y} width={Math.max(bad(errors), 1)} height={h} fill={theme.severity.error} />
              )}
            </g>
          );
        })}
        {pinned.map((pin) => (
          <g key={`${pin.name} ${pin.ns}`}>
            <line x1={0} x2={WIDTH} y1={pin.y} y2={pin.y} stroke={theme.mark} strokeDasharray="3 3" />
            <circle cx={4} cy={pin.y} r={3} fill={theme.mark} />
            {LABELS > 0 && (
              <text x={4} y={pin.labelY} style={{ fill: theme.mark }}>
                {pin.name.length > 14 ? `${pin.name.slice(0, 13)}…` : pin.name}
              </text>
            )}
            <title>{pin.name}</title>
          </g>
        ))}
        {shown && top !== undefined && (
          <rect x={0} y={top} width={WIDTH - 1} height={extent} fill="none" stroke={theme.accent} strokeWidth={1} />
        )}
        {drag && (
          <rect
            x={LABELS}
            y={Math.min(drag.from, drag.to)}
            width={WIDTH - LABELS}
            height={Math.abs(drag.to - drag.from)}
            fill={theme.accent}
            opacity={0.25}
          />
        )}
      </svg>
      {shown && (
        <Handle
          role="slider"
          tabIndex={0}
          aria-label="What the list shows"
          aria-orientation="vertical"
          aria-valuemin={0}
          aria-valuemax={100}
          aria-valuenow={height ? Math.round((handleTop / height) * 100) : 0}
          aria-valuetext={`${clock(shown[0], zone, 0)} to ${clock(shown[1], zone, 0)}`}
          style={{ top: handleTop }}
          onKeyDown={slide}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            seeking.current = true;
          }}
          onPointerUp={() => (seeking.current = false)}
        />
      )}
      {drag?.done && selected ? (
        <Confirm style={{ top: Math.min(Math.max(Math.min(drag.from, drag.to), 0), Math.max(height - 50, 0)) }}>
          {clock(selected[0], zone, 0)} to {clock(selected[1], zone, 0)}
          <Button $chief onPress={confirm} autoFocus>
            Only this
          </Button>
          <Button onPress={() => setDrag(undefined)}>Leave</Button>
        </Confirm>
      ) : (
        under &&
        pointer !== undefined && (
          <Tip style={{ top: Math.min(pointer, Math.max(height - 30, 0)) }}>
            {clock(under.start, zone, 0)} · {sum(under.severities)} events,{" "}
            {(under.severities[4] ?? 0) + (under.severities[5] ?? 0)} errors, {under.severities[3] ?? 0} warnings
          </Tip>
        )
      )}
    </Column>
  );
}
