import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, date, offsetName, parseNs, span } from "../../api/time";
import type { LogEvent } from "../../api/types";
import { rowHeight, space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Button, Field, Muted, Problem } from "../../ui/controls";
import { Message } from "../../ui/message";
import { Glyph } from "../../ui/severity";

const Page = styled.div`
  height: 100%;
  overflow: auto;
`;

const Head = styled.div`
  padding: ${space.l};
  border-bottom: 1px solid ${(p) => p.theme.line};
  h1 {
    font-size: ${type.head};
    margin: 0 0 ${space.s};
    overflow-wrap: anywhere;
  }
  p {
    margin: 0;
    color: ${(p) => p.theme.muted};
    display: flex;
    flex-wrap: wrap;
    gap: ${space.xs} ${space.l};
  }
  a {
    color: ${(p) => p.theme.accent};
  }
`;

const Ask = styled.form`
  display: flex;
  gap: ${space.s};
  align-items: end;
  padding: ${space.l};
  max-width: 560px;
  > :first-child {
    flex: 1;
  }
`;

const Rows = styled.ol`
  list-style: none;
  margin: 0;
  padding: ${space.s} 0;
  font-family: ${type.mono};
  font-size: ${type.small};
`;

const Row = styled.li`
  display: grid;
  grid-template-columns: 80px 92px 18px 112px minmax(0, 1fr) auto;
  min-height: ${rowHeight}px;
  align-items: center;
  padding: 0 ${space.l};
  > * {
    overflow-wrap: anywhere;
  }
  @media (max-width: 600px) {
    grid-template-columns: 64px 18px minmax(0, 1fr);
    > :nth-child(2),
    > :nth-child(4),
    > :nth-child(6) {
      display: none;
    }
  }
`;

const Wait = styled.li`
  color: ${(p) => p.theme.faint};
  border-top: 1px dotted ${(p) => p.theme.line};
  border-bottom: 1px dotted ${(p) => p.theme.line};
  margin: 2px ${space.l} 2px calc(80px + ${space.l});
  padding: 2px 0;
`;

/** A wait longer than this is folded and says how long it was. */
const FOLD_NS = 2_000_000_000n;

const first = (events: LogEvent[], bad: string[]) => events.find((e) => bad.includes(e.severity));

/** The head line: what went wrong first, or that nothing did, and how long all of it took. */
function headline(events: LogEvent[]): string {
  const [start, end] = [events[0], events[events.length - 1]];
  if (!start || !end) return "";
  const took = span(Number(parseNs(end.time) - parseNs(start.time)) / 1e9);
  const failed = [...events].reverse().find((e) => e.severity === "error" || e.severity === "fatal");
  const wrong = first(events, ["warn", "error", "fatal"]);
  if (failed && wrong) return `Failed after ${took}. First wrong, in ${wrong.service ?? "a service"}: ${wrong.message}`;
  if (wrong) return `Done in ${took}, with a warning from ${wrong.service ?? "a service"}: ${wrong.message}`;
  return `Done in ${took}, nothing went wrong: ${start.message}`;
}

/** Everything tied to one id, in order, as a list. */
export default function StoryPage() {
  const { id } = useParams();
  const { zone } = useZone();
  const navigate = useNavigate();
  const [draft, setDraft] = useState("");
  const story = useQuery({
    queryKey: ["story", id],
    enabled: Boolean(id),
    queryFn: ({ signal }) => api.story(id ?? "", signal),
  });
  const events = story.data?.events ?? [];
  const start = events[0] && parseNs(events[0].time);
  const wrong = first(events, ["warn", "error", "fatal"]);
  return (
    <Page>
      {!id && (
        <Ask
          onSubmit={(e) => {
            e.preventDefault();
            if (draft.trim()) navigate(`/story/${encodeURIComponent(draft.trim())}`);
          }}
        >
          <Field
            label="Paste an id: of a trace, a parcel, a lease …"
            name="id"
            value={draft}
            onChange={setDraft}
            autoFocus
          />
          <Button type="submit" $chief>
            Tell its story
          </Button>
        </Ask>
      )}
      {story.error && <Problem>{story.error.message}</Problem>}
      {story.data && start === undefined && (
        <Problem>
          No event is tied to {story.data.id}. Searched: {story.data.query}.{" "}
          {story.data.lanes_not_readable.length > 0 &&
            `Lanes that were not searched, because you may not read them: ${story.data.lanes_not_readable.join(", ")}.`}
        </Problem>
      )}
      {story.data && start !== undefined && (
        <>
          <Head>
            <h1>{headline(events)}</h1>
            <p>
              <span>
                started in {events[0]?.service ?? "a service"} {date(start, zone)} {clock(start, zone)}{" "}
                {offsetName(start, zone)}
              </span>
              <span>
                {events.length} events, {story.data.services.length} services, {story.data.lanes.length} lanes
              </span>
              <span data-testid="services">
                {story.data.services.map((s) => s.service || "(no service)").join(" → ")}
              </span>
              <Link to={`/search?q=${encodeURIComponent(story.data.query)}&from=now-7d`}>in Search</Link>
              <span>same in the terminal: calvex story {story.data.id}</span>
            </p>
            {story.data.lanes_not_readable.length > 0 && (
              <Muted>
                Lanes that were not searched, because you may not read them: {story.data.lanes_not_readable.join(", ")}.
              </Muted>
            )}
            {story.data.more && <Muted>Only the first {events.length} events are shown.</Muted>}
          </Head>
          <Rows aria-label="Events of the story">
            {events.map((event, i) => {
              const at = parseNs(event.time);
              const before = events[i - 1];
              const waited = before ? at - parseNs(before.time) : 0n;
              return [
                waited > FOLD_NS && <Wait key={`${event.id} wait`}>{span(Number(waited) / 1e9)} pass</Wait>,
                <Row key={event.id}>
                  <Muted>+{span(Number(at - start) / 1e9)}</Muted>
                  <Muted>{clock(at, zone)}</Muted>
                  <Glyph severity={event.severity} />
                  <span>{event.service}</span>
                  <span>
                    <Message text={event.message} />
                  </span>
                  <Muted>{event === wrong ? "first wrong" : ""}</Muted>
                </Row>,
              ];
            })}
          </Rows>
        </>
      )}
    </Page>
  );
}
