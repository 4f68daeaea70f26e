import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import styled from "styled-components";
import { clock, parseNs, type Zone } from "../../api/time";
import type { LogEvent } from "../../api/types";
import { rowHeight, space, type } from "../../app/tokens";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";

const Scroll = styled.div`
  overflow: auto;
  min-width: 0;
  position: relative;
`;

const Row = styled.div<{ $on: boolean }>`
  position: absolute;
  left: 0;
  right: 0;
  height: ${rowHeight}px;
  display: grid;
  grid-template-columns: 92px 18px 104px minmax(0, 1fr);
  align-items: center;
  padding: 0 ${space.m};
  font-family: ${type.mono};
  font-size: ${type.small};
  cursor: pointer;
  background: ${(p) => (p.$on ? p.theme.chosen : "transparent")};
  box-shadow: ${(p) => (p.$on ? `inset 2px 0 ${p.theme.accent}` : "none")};
  &:hover {
    background: ${(p) => p.theme.chosen};
  }
  > * {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: pre;
  }
  @media (max-width: 600px) {
    grid-template-columns: 92px 16px minmax(0, 1fr);
    padding: 0 ${space.xs};
    > :nth-child(3) {
      display: none;
    }
  }
`;

const Time = styled.span`
  color: ${(p) => p.theme.muted};
`;

const Told = styled.div`
  padding: ${space.m} ${space.l};
  color: ${(p) => p.theme.muted};
`;

interface Props {
  events: LogEvent[];
  more: boolean;
  loading: boolean;
  chosen: number;
  zone: Zone;
  onChoose: (index: number) => void;
  onOpen: (event: LogEvent) => void;
  onMore: () => void;
  onShown: (first: bigint, last: bigint) => void;
}

/** Events one a line; only the lines in sight exist. */
export function EventList({ events, more, loading, chosen, zone, onChoose, onOpen, onMore, onShown }: Props) {
  const scroll = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: events.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 12,
  });
  const items = rows.getVirtualItems();
  const offset = rows.scrollOffset ?? 0;
  const first = Math.floor(offset / rowHeight);
  const last = Math.min(events.length - 1, Math.floor((offset + (rows.scrollRect?.height ?? 0)) / rowHeight));
  const ends = `${events[first]?.id} ${events[last]?.id}`;
  useEffect(() => {
    const [a, b] = [events[first], events[last]];
    if (a && b) onShown(parseNs(a.time), parseNs(b.time));
    // `ends` names both rows; the rest is read when they change.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [ends]);
  useEffect(() => {
    if (more && !loading && last >= events.length - 30) onMore();
  }, [more, loading, last, events.length, onMore]);
  useEffect(() => {
    if (chosen >= 0 && chosen < events.length) rows.scrollToIndex(chosen, { align: "auto" });
    // Only a change of choice scrolls.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [chosen]);
  return (
    <Scroll ref={scroll} role="grid" aria-label="Events" aria-rowcount={more ? -1 : events.length} tabIndex={0}>
      <div style={{ height: rows.getTotalSize(), position: "relative" }} role="rowgroup">
        {items.map((item) => {
          const event = events[item.index];
          if (!event) return null;
          return (
            <Row
              key={event.id}
              role="row"
              aria-rowindex={item.index + 1}
              aria-selected={item.index === chosen}
              $on={item.index === chosen}
              style={{ transform: `translateY(${item.start}px)` }}
              onClick={() => {
                onChoose(item.index);
                onOpen(event);
              }}
            >
              <Time role="gridcell">{clock(parseNs(event.time), zone)}</Time>
              <span role="gridcell">
                <Glyph severity={event.severity} />
              </span>
              <span role="gridcell">{event.service}</span>
              <span role="gridcell" title={event.message}>
                <Message text={event.message} />
              </span>
            </Row>
          );
        })}
      </div>
      {!more && events.length > 0 && <Told>That is all in this range.</Told>}
      {loading && events.length > 0 && <Told role="status">More are on their way…</Told>}
    </Scroll>
  );
}
