import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, exact, parseNs, span, type Zone } from "../../api/time";
import type { Json, LogEvent } from "../../api/types";
import { radius, space, type } from "../../app/tokens";
import { Muted, Quiet } from "../../ui/controls";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";
import { FieldTree, OwnParts, type ValueActs } from "./FieldTree";
import { Neighbours } from "./Neighbours";
import { followed, useAsked } from "./asked";
import { searchAddress } from "./state";
import { number } from "../../ui/number";

export const Panel = styled.aside`
  width: 392px;
  overflow: auto;
  border-left: 1px solid ${(p) => p.theme.line};
  background: ${(p) => p.theme.raised};
  padding: ${space.m} ${space.l} ${space.xl};
  h2 {
    font-size: ${type.lead};
    margin: 0 0 ${space.xs};
    overflow-wrap: anywhere;
    max-height: 8em;
    overflow-y: auto;
  }
  h3 {
    font-size: ${type.small};
    font-weight: 400;
    color: ${(p) => p.theme.muted};
    margin: ${space.m} 0 ${space.xs};
  }
  @media (max-width: 900px) {
    position: fixed;
    inset: 0 0 0 auto;
    width: min(100%, 420px);
    z-index: 5;
  }
`;

const When = styled.p`
  margin: 0 0 ${space.m};
  color: ${(p) => p.theme.muted};
`;

const Acts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.s};
  align-items: center;
  margin-bottom: ${space.m};
`;

export const StoryLink = styled(Link)`
  background: ${(p) => p.theme.accent};
  color: ${(p) => p.theme.onAccent};
  font-weight: 650;
  border-radius: ${radius};
  padding: 5px ${space.m};
  text-decoration: none;
`;

const Raw = styled.pre`
  font-family: ${type.mono};
  font-size: ${type.small};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  margin: 0;
`;

const Plain = styled(Link)`
  color: ${(p) => p.theme.accent};
`;

const OWN = ["service", "host", "lane", "sender", "kind", "trace", "span", "parent", "status"] as const;
const TABS = ["fields", "near it", "raw"] as const;

interface Props {
  event: LogEvent;
  zone: Zone;
  query: string;
  range: { from: string; to: string } | undefined;
  acts: ValueActs;
  onOpen: (event: LogEvent) => void;
  onClose: () => void;
}

/** One event, whole. */
export function EventDetail({ event, zone, query, range, acts, onOpen, onClose }: Props) {
  const ns = parseNs(event.time);
  const [tab, setTab] = useState<(typeof TABS)[number]>("fields");
  const own: [string, Json, string?][] = OWN.filter((name) => event[name]).map((name) => [name, event[name] as string]);
  if (typeof event.took_ns === "number") own.push(["took", event.took_ns, span(event.took_ns / 1e9)]);
  event.transformed?.forEach((rule) => own.push(["transformed", rule]));
  return (
    <Panel aria-label="Event" data-testid="event">
      <h2>{event.message ? <Message text={event.message.slice(0, 4000)} /> : "(no message)"}</h2>
      <When>
        {exact(ns, zone)} · {ago(ns)} · <Glyph severity={event.severity} /> {event.severity}
      </When>
      <Acts>
        {event.trace && <StoryLink to={`/story/${event.trace}`}>Its story</StoryLink>}
        {TABS.map((name) => (
          <Quiet key={name} $on={tab === name} aria-pressed={tab === name} onPress={() => setTab(name)}>
            {name}
          </Quiet>
        ))}
        <Quiet onPress={() => void navigator.clipboard.writeText(JSON.stringify(event))}>copy</Quiet>
        <Quiet onPress={onClose}>close</Quiet>
      </Acts>
      {tab === "fields" && (
        <>
          {Object.keys(event.fields).length > 0 ? (
            <FieldTree fields={event.fields} acts={acts} />
          ) : (
            <Muted>It was sent without fields.</Muted>
          )}
          <h3>Of every event</h3>
          <OwnParts parts={own} acts={acts} />
          {range && <ShapeOf message={event.message} query={query} range={range} />}
        </>
      )}
      {tab === "near it" && <Neighbours event={event} zone={zone} onOpen={onOpen} />}
      {tab === "raw" && <Raw>{JSON.stringify(event, null, 2)}</Raw>}
    </Panel>
  );
}

/** The shape of a message, and how often it occurs in the range. */
function ShapeOf(props: { message: string; query: string; range: { from: string; to: string } }) {
  const { message, query, range } = props;
  const shape = useQuery({
    queryKey: ["shape", message],
    queryFn: ({ signal }) => api.shape({ message }, signal),
    staleTime: Infinity,
  });
  const id = shape.data?.shape;
  const asked = useAsked(query);
  const counted = useQuery({
    queryKey: ["shape count", id, asked?.filter, range],
    enabled: id !== undefined && asked !== undefined,
    queryFn: async ({ signal }) => {
      const of = (q: string) => api.measure({ query: `${q} measure count`, ...range }, signal);
      const [all, found] = await Promise.all([
        of(`shape=${id}`),
        of(asked ? followed(asked, `shape=${id}`) : `shape=${id}`),
      ]);
      return [Number(all.groups[0]?.total[0] ?? 0), Number(found.groups[0]?.total[0] ?? 0)] as const;
    },
  });
  if (!shape.data) return null;
  return (
    <section aria-label="Shape" data-testid="shape">
      <h3>Its shape</h3>
      <code style={{ overflowWrap: "anywhere" }}>{shape.data.template}</code>
      <p style={{ margin: "4px 0" }}>
        {counted.data ? (
          <>
            <Plain to={searchAddress({ query: `shape=${id}`, from: range.from, to: range.to })}>
              {number(counted.data[0])} in this range
            </Plain>
            {asked?.filter && counted.data[1] !== counted.data[0] && (
              <Muted>, {number(counted.data[1])} of those found</Muted>
            )}
          </>
        ) : (
          <Muted>counting …</Muted>
        )}
      </p>
    </section>
  );
}
