import { Link } from "react-router";
import styled from "styled-components";
import { ago, exact, parseNs, type Zone } from "../../api/time";
import type { Json, LogEvent } from "../../api/types";
import { radius, space, type } from "../../app/tokens";
import { Quiet } from "../../ui/controls";
import { Glyph } from "../../ui/severity";
import { literal } from "./state";

const Panel = styled.aside`
  width: 356px;
  overflow: auto;
  border-left: 1px solid ${(p) => p.theme.line};
  background: ${(p) => p.theme.raised};
  padding: ${space.m} ${space.l} ${space.xl};
  h2 {
    font-size: ${type.lead};
    margin: 0 0 ${space.xs};
    overflow-wrap: anywhere;
  }
  @media (max-width: 900px) {
    position: fixed;
    inset: 0 0 0 auto;
    width: min(100%, 400px);
    z-index: 5;
  }
`;

const When = styled.p`
  margin: 0 0 ${space.m};
  color: ${(p) => p.theme.muted};
`;

const Acts = styled.div`
  display: flex;
  gap: ${space.s};
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

const Fields = styled.dl`
  display: grid;
  grid-template-columns: minmax(90px, auto) minmax(0, 1fr);
  gap: 2px ${space.m};
  margin: 0;
  font-family: ${type.mono};
  font-size: ${type.small};
  dt {
    color: ${(p) => p.theme.muted};
    overflow-wrap: anywhere;
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  dd.number {
    color: ${(p) => p.theme.number};
  }
  dd {
    position: relative;
  }
`;

const ValueActs = styled.span`
  position: absolute;
  right: 0;
  top: -2px;
  background: ${(p) => p.theme.raised};
  font-family: ${type.text};
  white-space: nowrap;
  dd:not(:hover):not(:focus-within) > & {
    opacity: 0;
    pointer-events: none;
  }
`;

const Raw = styled.details`
  margin-top: ${space.l};
  pre {
    font-family: ${type.mono};
    font-size: ${type.small};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
`;

const OWN = ["trace", "span", "parent", "service", "host", "lane", "sender"] as const;

/** Fields as dotted paths; a list stays one value. */
function flat(fields: { [name: string]: Json }, above = ""): [string, Json][] {
  return Object.entries(fields).flatMap(([name, value]) => {
    const path = above ? `${above}.${name}` : name;
    const nested =
      value !== null && typeof value === "object" && !Array.isArray(value) && Object.keys(value).length > 0;
    return nested ? flat(value as { [name: string]: Json }, path) : [[path, value] as [string, Json]];
  });
}

const OWN_NAMES =
  "time arrived severity service host message shape trace span parent kind lane took status sender shaped".split(" ");

/** A sent field as a query names it. */
function fieldName(path: string): string {
  if (OWN_NAMES.includes(path)) return `.${path}`;
  return /^[\p{L}\p{N}_@-][\p{L}\p{N}._@:/-]*$/u.test(path) ? path : `\`${path}\``;
}

interface Props {
  event: LogEvent;
  zone: Zone;
  onNarrow: (condition: string) => void;
  onClose: () => void;
}

/** One event, whole. */
export function EventDetail({ event, zone, onNarrow, onClose }: Props) {
  const ns = parseNs(event.time);
  const row = (name: string, path: string, value: Json) => {
    const text = typeof value === "string" ? value : JSON.stringify(value);
    const one = value !== null && typeof value !== "object";
    const condition = `${path}=${literal(text)}`;
    return (
      <div key={`${path} ${text}`} style={{ display: "contents" }}>
        <dt>{name}</dt>
        <dd className={typeof value === "number" ? "number" : undefined}>
          {text}{" "}
          {one && (
            <ValueActs>
              <Quiet aria-label={`Keep only ${condition}`} onPress={() => onNarrow(condition)}>
                keep
              </Quiet>
              <Quiet aria-label={`Leave out ${condition}`} onPress={() => onNarrow(`not ${condition}`)}>
                leave out
              </Quiet>
            </ValueActs>
          )}
        </dd>
      </div>
    );
  };
  return (
    <Panel aria-label="Event" data-testid="event">
      <h2>{event.message || "(no message)"}</h2>
      <When>
        {exact(ns, zone)} · {ago(ns)} · <Glyph severity={event.severity} /> {event.severity}
      </When>
      <Acts>
        {event.trace && <StoryLink to={`/story/${event.trace}`}>Its story</StoryLink>}
        <Quiet onPress={() => navigator.clipboard.writeText(JSON.stringify(event))}>copy</Quiet>
        <Quiet onPress={onClose}>close</Quiet>
      </Acts>
      <Fields>
        {flat(event.fields).map(([path, value]) => row(path, fieldName(path), value))}
        {OWN.filter((name) => event[name]).map((name) => row(name, name, event[name] as string))}
        {event.shaped?.map((rule) => row("shaped by", "shaped", rule))}
      </Fields>
      <Raw>
        <summary>As answered</summary>
        <pre>{JSON.stringify(event, null, 2)}</pre>
      </Raw>
    </Panel>
  );
}
