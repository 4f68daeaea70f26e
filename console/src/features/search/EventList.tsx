import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useRef } from "react";
import styled, { css } from "styled-components";
import { clock, parseNs, type Zone } from "../../api/time";
import type { LogEvent } from "../../api/types";
import { useCompact } from "../../app/compact";
import { rowHeight, space, type } from "../../app/tokens";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";
import { textOf, valueOf } from "./event";
import { ListHead } from "./ListHead";
import type { Column } from "./state";

const Scroll = styled.div`
  overflow: auto;
  min-width: 0;
  position: relative;
  outline-offset: -2px;
`;

/** A message of many pages must not push its neighbours out of sight; opened, it stands there whole. */
const CLAMPED = css`
  display: -webkit-box;
  -webkit-box-orient: vertical;
  -webkit-line-clamp: 12;
`;

const Row = styled.div<{ $wrap: boolean }>`
  position: absolute;
  left: 0;
  min-width: 100%;
  ${(p) => (p.$wrap ? `min-height: ${rowHeight}px` : `height: ${rowHeight}px`)};
  display: grid;
  align-items: ${(p) => (p.$wrap ? "start" : "center")};
  padding: ${(p) => (p.$wrap ? "5px" : "0")} ${space.m};
  font-family: ${type.mono};
  font-size: ${type.small};
  line-height: 18px;
  cursor: pointer;
  &:hover,
  &[aria-selected="true"],
  &[data-picked="true"] {
    background: ${(p) => p.theme.chosen};
  }
  &[aria-selected="true"] {
    box-shadow: inset 2px 0 ${(p) => p.theme.accent};
  }
  &[data-picked="true"] {
    box-shadow: inset 6px 0 ${(p) => p.theme.mark};
  }
  > * {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: ${(p) => (p.$wrap ? "pre-wrap" : "pre")};
    overflow-wrap: anywhere;
    padding-right: ${space.s};
    ${(p) => p.$wrap && CLAMPED}
  }
  @media (max-width: 600px) {
    padding-left: ${space.xs};
    padding-right: ${space.xs};
  }
`;

const Time = styled.span`
  color: ${(p) => p.theme.muted};
`;

const Reported = styled.div`
  padding: ${space.m} ${space.l};
  color: ${(p) => p.theme.muted};
`;

interface Props {
  events: LogEvent[];
  more: boolean;
  loading: boolean;
  /** The row one is at; -1 for none. */
  chosen: number;
  picked: ReadonlySet<string>;
  columns: Column[];
  wrap: boolean;
  zone: Zone;
  onColumns: (columns: Column[]) => void;
  /** A row was pressed; with Ctrl or Shift it is picked, not opened. */
  onPress: (index: number, how: "open" | "pick" | "reach") => void;
  onMore: () => void;
  onShown: (first: bigint, last: bigint) => void;
}

/** The columns as a grid has them: time, severity, service, those chosen, message. */
function gridOf(columns: Column[], compact: boolean, wrap: boolean): string {
  const chosen = columns.map((c) => `${c.width}px`).join(" ");
  const message = wrap || compact ? "minmax(160px, 1fr)" : "minmax(320px, 1fr)";
  return compact ? `98px 22px ${chosen} ${message}` : `104px 20px 108px ${chosen} ${message}`;
}

/** Events; only the lines in sight exist. */
export function EventList(props: Props) {
  const { events, more, loading, chosen, picked, columns, wrap, zone, onPress, onMore, onShown } = props;
  const compact = useCompact();
  const scroll = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: events.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    getItemKey: (n) => events[n]?.id ?? n,
  });
  const items = rows.getVirtualItems();
  const offset = rows.scrollOffset ?? 0;
  const height = rows.scrollRect?.height ?? 0;
  const first = rows.getVirtualItemForOffset(offset)?.index ?? 0;
  const last = Math.min(events.length - 1, rows.getVirtualItemForOffset(offset + height)?.index ?? 0);
  const ends = `${events[first]?.id} ${events[last]?.id}`;
  useEffect(() => {
    const [a, b] = [events[first], events[last]];
    if (a && b) onShown(parseNs(a.time), parseNs(b.time));
    // `ends` names both rows; the rest is read when they change.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [ends]);
  useEffect(() => {
    if (more && !loading && last >= events.length - 60) onMore();
  }, [more, loading, last, events.length, onMore]);
  useEffect(() => {
    if (chosen >= 0 && chosen < events.length) rows.scrollToIndex(chosen, { align: "auto" });
    // Only a change of choice scrolls.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [chosen]);
  useEffect(() => {
    rows.measure();
    // The heights that were measured held for the other way of showing.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [wrap, columns.length]);
  const grid = gridOf(columns, compact, wrap);
  return (
    <Scroll ref={scroll} data-testid="events" tabIndex={0}>
      <div role="grid" aria-label="Events" aria-rowcount={more ? -1 : events.length}>
        {!(compact && columns.length === 0) && (
          <ListHead grid={grid} columns={columns} compact={compact} onColumns={props.onColumns} />
        )}
        <div style={{ height: rows.getTotalSize(), position: "relative" }} role="rowgroup">
          {items.map((item) => {
            const event = events[item.index];
            if (!event) return null;
            return (
              <Row
                key={event.id}
                ref={wrap ? rows.measureElement : undefined}
                data-index={item.index}
                $wrap={wrap}
                role="row"
                aria-rowindex={item.index + 1}
                aria-selected={item.index === chosen}
                data-picked={picked.has(event.id)}
                style={{ transform: `translateY(${item.start}px)`, gridTemplateColumns: grid }}
                onMouseDown={(e) => e.shiftKey && e.preventDefault()}
                onClick={(e) => onPress(item.index, e.shiftKey ? "reach" : e.ctrlKey || e.metaKey ? "pick" : "open")}
              >
                <Cells event={event} columns={columns} compact={compact} zone={zone} />
              </Row>
            );
          })}
        </div>
      </div>
      {!more && events.length > 0 && <Reported>That is all in this range.</Reported>}
      {loading && events.length > 0 && <Reported role="status">More are on their way…</Reported>}
    </Scroll>
  );
}

/** What a row says: it does not change while the list is scrolled. */
const Cells = memo(function Cells(props: { event: LogEvent; columns: Column[]; compact: boolean; zone: Zone }) {
  const { event, columns, compact, zone } = props;
  return (
    <>
      <Time role="gridcell">{clock(parseNs(event.time), zone)}</Time>
      <span role="gridcell">
        <Glyph severity={event.severity} />
      </span>
      {!compact && <span role="gridcell">{event.service}</span>}
      {columns.map((column) => {
        const text = textOf(valueOf(event, column.field));
        return (
          <span role="gridcell" key={column.field} title={text}>
            {text}
          </span>
        );
      })}
      <span role="gridcell" title={event.message.slice(0, 2000)}>
        <Message text={event.message.slice(0, 4000)} />
      </span>
    </>
  );
});
