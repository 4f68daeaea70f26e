import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, date, offsetName, parseNs } from "../../api/time";
import type { FoundId, LogEvent, StoryAnswer } from "../../api/types";
import { space, type } from "../../app/tokens";
import { withHealthy } from "../compare/model";
import { useZone } from "../../app/zone";
import { Button, LinesField, Muted, Problem, Quiet } from "../../ui/controls";
import { Glyph } from "../../ui/severity";
import { EventDetail } from "../search/EventDetail";
import { searchAddress } from "../search/state";
import { duration, remarks, timeWent, type Shown } from "./model";
import { ScoreView } from "./ScoreView";

const Page = styled.div`
  height: 100%;
  display: grid;
  grid-template: auto auto minmax(0, 1fr) / minmax(0, 1fr);
`;

const Head = styled.div`
  padding: ${space.m} ${space.l} ${space.s};
  h1 {
    font-size: ${type.head};
    margin: 0 0 ${space.xs};
    overflow-wrap: anywhere;
  }
  p {
    margin: 0;
    color: ${(p) => p.theme.muted};
    display: flex;
    flex-wrap: wrap;
    gap: 2px ${space.l};
    align-items: baseline;
  }
  a {
    color: ${(p) => p.theme.accent};
  }
  @media (max-width: 600px) {
    h1 {
      font-size: ${type.lead};
    }
  }
`;

const Ask = styled.form`
  display: grid;
  gap: ${space.s};
  padding: ${space.l};
  max-width: 720px;
`;

const Found = styled.ul`
  list-style: none;
  padding: 0 ${space.l};
  margin: 0;
  li {
    display: flex;
    gap: ${space.m};
    padding: ${space.xs} 0;
    border-bottom: 1px solid ${(p) => p.theme.line};
    font-family: ${type.mono};
  }
  a {
    color: ${(p) => p.theme.accent};
  }
`;

const Chapters = styled.ol`
  margin: ${space.s} 0 0;
  padding: 0;
  list-style: none;
  max-height: 160px;
  overflow: auto;
  li {
    display: grid;
    grid-template-columns: 150px 16px 84px minmax(0, 1fr);
    gap: ${space.s};
    align-items: center;
    padding: 2px 0;
  }
  @media (max-width: 600px) {
    li {
      grid-template-columns: 16px minmax(0, 1fr);
      > :nth-child(1),
      > :nth-child(3) {
        display: none;
      }
    }
  }
`;

const Controls = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${space.xs} ${space.l};
  padding: 0 ${space.l} ${space.xs};
  border-bottom: 1px solid ${(p) => p.theme.line};
  input[type="text"] {
    background: ${(p) => p.theme.raised};
    border: 1px solid ${(p) => p.theme.line};
    color: inherit;
    font: inherit;
    padding: 3px ${space.s};
    width: 200px;
  }
`;

const Split = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  min-height: 0;
`;

/** A field for whatever a person has in hand; what it holds is looked up, and one hit opens at once. */
function Paste() {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const [found, setFound] = useState<FoundId[]>();
  const [error, setError] = useState("");
  const address = (id: FoundId) => `/story/${encodeURIComponent(id.trace ?? id.id)}`;
  const look = async (e: FormEvent) => {
    e.preventDefault();
    if (!text.trim()) return;
    try {
      const ids = await api.paste(text);
      const having = ids.filter((id) => id.events > 0);
      setError("");
      if (having.length === 1 && having[0]) navigate(address(having[0]));
      else setFound(ids);
    } catch (e) {
      setError(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <>
      <Ask onSubmit={look}>
        <LinesField
          label="Paste what you have: an id, a response's headers, an error report, a line of a log"
          value={text}
          rows={4}
          onChange={setText}
        />
        <div>
          <Button type="submit" $chief>
            Show its story
          </Button>
        </div>
      </Ask>
      {error && <Problem>{error}</Problem>}
      {found?.length === 0 && (
        <Problem>There is no id in this text. Paste one that events carry, such as a trace's.</Problem>
      )}
      {found && found.length > 0 && (
        <Found aria-label="Ids found">
          {found.map((id) => (
            <li key={id.id}>
              {id.events > 0 ? <Link to={address(id)}>{id.id}</Link> : <span>{id.id}</span>}
              <Muted>
                {id.events > 0 ? `${id.events}${id.more ? " or more" : ""} events` : "no event"}
                {id.first && `, the first ${id.first.slice(0, 19).replace("T", " ")}`}
              </Muted>
            </li>
          ))}
        </Found>
      )}
    </>
  );
}

/** What a chapter's outcome looks like. */
const GLYPHS = { well: "info", failed: "error", open: "warn", nothing: "debug" } as const;

function Top({ story, onCopy, copied }: { story: StoryAnswer; onCopy: () => void; copied: boolean }) {
  const { zone } = useZone();
  const score = story.score;
  const first = story.events[0];
  const start = first && parseNs(first.time);
  if (!score || !first || start === undefined) return null;
  const spans = score.bars.reduce((sum, bar) => sum + (bar.bundle?.count ?? 1), 0);
  const events = score.rows.filter((row) => row.kind === "event").length;
  const went = timeWent(score);
  const root = score.bars.find((bar) => typeof bar.parent !== "number" && bar.outcome !== "well");
  const begun = root && story.events[root.event];
  const failed = root && begun?.service && withHealthy(begun.service, root.operation, parseNs(begun.time));
  return (
    <Head>
      <h1>{score.headline}</h1>
      <p>
        <span>
          started in <strong>{first.service ?? "a service"}</strong> {date(start, zone)} {clock(start, zone)}{" "}
          {offsetName(start, zone)}
        </span>
        <span data-testid="services" title={story.services.map((s) => s.service || "(no service)").join(" → ")}>
          {story.services.length} services, {story.lanes.length} lanes
        </span>
        <span>
          {spans} spans, {events} events
        </span>
        {went && <span>the time went to {went}</span>}
      </p>
      <p>
        {(story.related ?? []).slice(0, 6).map((id) => (
          <span key={`${id.tie} ${id.id}`}>
            {id.tie}{" "}
            <Link to={`/story/${encodeURIComponent(id.id)}`}>
              {id.id.length > 18 ? `${id.id.slice(0, 8)}…` : id.id}
            </Link>
          </span>
        ))}
        <Link to={`/search?q=${encodeURIComponent(story.query)}&from=now-7d`}>in Search</Link>
        {failed && <Link to={failed}>compare with healthy ones</Link>}
        <Quiet onPress={onCopy}>{copied ? "copied" : "copy as Markdown"}</Quiet>
        <span>
          <Muted>
            in the terminal: calvex story <code>{story.id}</code>
          </Muted>
        </span>
      </p>
      {story.lanes_not_readable.length > 0 && (
        <p>Lanes that were not searched, because you may not read them: {story.lanes_not_readable.join(", ")}.</p>
      )}
      {story.more && <p>Only the first {story.events.length} spans and events are shown.</p>}
      {remarks(score).map((remark) => (
        <p key={remark}>{remark}</p>
      ))}
      {(story.chapters ?? []).length > 0 && (
        <Chapters aria-label="Chapters">
          {story.chapters?.map((chapter) => {
            const at = BigInt(chapter.start_ns);
            return (
              <li key={chapter.trace ?? chapter.start_ns}>
                <Muted>
                  {date(at, zone)} {clock(at, zone, 0)}
                </Muted>
                <Glyph severity={GLYPHS[chapter.outcome]} />
                <Muted>{duration(chapter.took_ns)}</Muted>
                {chapter.trace ? <Link to={`/story/${chapter.trace}`}>{chapter.headline}</Link> : chapter.headline}
              </li>
            );
          })}
        </Chapters>
      )}
    </Head>
  );
}

/** Everything tied to one id, drawn: services side by side, time downward, and the list level with it. */
export default function StoryPage() {
  const { id } = useParams();
  const { zone } = useZone();
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const [copied, setCopied] = useState(false);
  const open = params.get("open") ?? "";
  const columns = params.get("columns") ?? "";
  const story = useQuery({
    queryKey: ["story", id, open, columns],
    enabled: Boolean(id),
    queryFn: ({ signal }) =>
      api.story(
        id ?? "",
        { open, columns, link: `${window.location.origin}/story/${encodeURIComponent(id ?? "")}` },
        signal,
      ),
    placeholderData: (before) => (before?.id === id ? before : undefined),
  });
  const change = (part: Record<string, string>) =>
    setParams(
      (p) => {
        for (const [name, value] of Object.entries(part)) {
          if (value) p.set(name, value);
          else p.delete(name);
        }
        return p;
      },
      { replace: true },
    );
  const shown: Shown = {
    words: params.get("words") ?? "",
    service: params.get("service") ?? "",
    bad: params.get("bad") === "1",
  };
  const answer = story.data;
  const score = answer?.score;
  const events = answer?.events ?? [];
  const opened: LogEvent | undefined = events.find((event) => event.id === params.get("event"));
  const folded = score?.columns.some((column) => column.services.length > 1);
  const copy = async () => {
    await navigator.clipboard.writeText(answer?.markdown ?? "");
    setCopied(true);
  };
  return (
    <Page>
      <div>
        {!id && <Paste />}
        {story.error && <Problem>{story.error.message}</Problem>}
        {answer && events.length === 0 && (
          <Problem>
            No event is tied to {answer.id}. Searched: {answer.query}.{" "}
            {answer.lanes_not_readable.length > 0 &&
              `Lanes that were not searched, because you may not read them: ${answer.lanes_not_readable.join(", ")}.`}
          </Problem>
        )}
        {answer && <Top story={answer} copied={copied} onCopy={() => void copy()} />}
      </div>
      {score && events.length > 0 ? (
        <Controls role="group" aria-label="What is shown">
          <input
            type="text"
            aria-label="Words shown"
            placeholder="only with words …"
            value={shown.words}
            onChange={(e) => change({ words: e.target.value })}
          />
          <label>
            <input type="checkbox" checked={shown.bad} onChange={(e) => change({ bad: e.target.checked ? "1" : "" })} />{" "}
            only warnings and failures
          </label>
          {shown.service && (
            <Quiet onPress={() => change({ service: "" })}>every service, not only {shown.service}</Quiet>
          )}
          {folded && <Quiet onPress={() => change({ columns: "all" })}>a column for every service</Quiet>}
          {open && <Quiet onPress={() => change({ open: "" })}>like calls together again</Quiet>}
        </Controls>
      ) : (
        <span />
      )}
      {score && events.length > 0 && (
        <Split>
          <ScoreView
            score={score}
            events={events}
            shown={shown}
            onService={(service) => change({ service })}
            onOpenBundle={(key) => change({ open: [...open.split(",").filter(Boolean), key].join(",") })}
            onEvent={(event) => change({ event: event.id })}
          />
          {opened ? (
            <EventDetail
              key={opened.id}
              event={opened}
              zone={zone}
              query={answer?.query ?? ""}
              range={undefined}
              acts={{
                narrow: (condition) => navigate(searchAddress({ query: condition, from: "now-7d" })),
                column: (field) =>
                  navigate(searchAddress({ query: answer?.query ?? "", from: "now-7d", columns: field })),
                breakdown: (field) =>
                  navigate(searchAddress({ query: answer?.query ?? "", from: "now-7d", fields: "1", field })),
                isTie: (field) => field === "trace" || (answer?.related ?? []).some((id) => id.tie === field),
              }}
              onOpen={(event) => navigate(searchAddress({ query: "", open: event.id }))}
              onClose={() => change({ event: "" })}
            />
          ) : (
            <span />
          )}
        </Split>
      )}
    </Page>
  );
}
