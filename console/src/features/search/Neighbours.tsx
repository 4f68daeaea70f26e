import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, formatNs, parseNs, type Zone } from "../../api/time";
import type { LogEvent } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";
import { literal, searchAddress } from "./state";

/** Events shown to each side. */
const EACH_SIDE = 10;
/** How far away they may be. */
const REACH_NS = 3600n * 1_000_000_000n;

const Line = styled.button<{ $self: boolean }>`
  display: grid;
  grid-template-columns: 98px 14px minmax(0, 1fr);
  gap: ${space.xs};
  width: 100%;
  border: 0;
  background: ${(p) => (p.$self ? p.theme.chosen : "none")};
  box-shadow: ${(p) => (p.$self ? `inset 2px 0 ${p.theme.accent}` : "none")};
  color: inherit;
  text-align: left;
  font-family: ${type.mono};
  font-size: ${type.small};
  padding: 3px ${space.xs};
  cursor: pointer;
  span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  &:hover {
    background: ${(p) => p.theme.chosen};
  }
`;

/** What happened around an event's time on its host, or in its service, in the order of time. */
export function Neighbours(props: { event: LogEvent; zone: Zone; onOpen: (event: LogEvent) => void }) {
  const { event, zone, onOpen } = props;
  const ways = [
    ...(event.host ? [["its host", `host=${literal(event.host)}`] as const] : []),
    ...(event.service ? [["its service", `service=${literal(event.service)}`] as const] : []),
  ];
  const [way, setWay] = useState(0);
  const query = ways[way]?.[1];
  const ns = parseNs(event.time);
  const around = useQuery({
    queryKey: ["near", event.id, query],
    enabled: query !== undefined,
    queryFn: async ({ signal }) => {
      const [before, after] = await Promise.all([
        api.search(
          { query: query ?? "", from: formatNs(ns - REACH_NS), to: formatNs(ns), order: "newest", limit: EACH_SIDE },
          signal,
        ),
        api.search(
          {
            query: query ?? "",
            from: formatNs(ns),
            to: formatNs(ns + REACH_NS),
            order: "oldest",
            limit: EACH_SIDE + 1,
          },
          signal,
        ),
      ]);
      const all = [...before.events.reverse(), ...after.events];
      return all.some((e) => e.id === event.id) ? all : [...before.events, event, ...after.events];
    },
  });
  if (!query) return <Muted>It names neither host nor service.</Muted>;
  return (
    <div data-testid="near">
      {ways.map(([name], n) => (
        <Quiet key={name} $on={n === way} aria-pressed={n === way} onPress={() => setWay(n)}>
          {name}
        </Quiet>
      ))}
      <Link
        style={{ color: "inherit" }}
        to={searchAddress({
          query,
          from: formatNs(ns - 300n * 1_000_000_000n),
          to: formatNs(ns + 300n * 1_000_000_000n),
          order: "oldest",
        })}
      >
        ten minutes around it
      </Link>
      {around.error && <Problem>{around.error.message}</Problem>}
      {around.isPending && <Muted>Looking …</Muted>}
      {around.data?.map((e) => (
        <Line key={e.id} $self={e.id === event.id} onClick={() => onOpen(e)} title={e.message.slice(0, 500)}>
          <span>{clock(parseNs(e.time), zone)}</span>
          <span>
            <Glyph severity={e.severity} />
          </span>
          <span>
            <Message text={e.message.slice(0, 200)} />
          </span>
        </Line>
      ))}
    </div>
  );
}
