import { useEffect, useState, type FormEvent } from "react";
import { useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { ProblemError } from "../../api/client";
import { useKeys } from "../../app/keys";
import { Unseen } from "../../ui/page";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Button, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { EventDetail } from "../search/EventDetail";
import { EventList } from "../search/EventList";
import { LazyQueryField } from "../search/LazyQueryField";
import { narrowed, useAsked } from "../search/asked";
import { searchAddress, type Column } from "../search/state";
import { SECONDS, useFollow, type Rate } from "./follow";

const Page = styled.div`
  height: 100%;
  display: grid;
  grid-template: auto auto minmax(0, 1fr) auto / minmax(0, 1fr);
`;

const Bar = styled.form`
  display: flex;
  gap: ${space.s};
  align-items: flex-start;
  padding: ${space.m} ${space.l} ${space.s};
`;

const Facts = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${space.xs} ${space.l};
  padding: 0 ${space.l} ${space.s};
  border-bottom: 1px solid ${(p) => p.theme.line};
  color: ${(p) => p.theme.muted};
  strong {
    color: ${(p) => p.theme.text};
  }
`;

const Warn = styled.span`
  color: ${(p) => p.theme.severity.warn};
`;

const Split = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  min-height: 0;
  > :first-child {
    height: 100%;
  }
`;

const Foot = styled.p`
  margin: 0;
  padding: ${space.s} ${space.l};
  border-top: 1px solid ${(p) => p.theme.line};
`;

/** Events of each of the last seconds, errors on top. */
function Strip({ rates }: { rates: Rate[] }) {
  const most = Math.max(1, ...rates.map((r) => r.calm + r.bad));
  const height = 22;
  const px = (n: number) => (n > 0 ? Math.max(1, (n / most) * height) : 0);
  const now = rates[rates.length - 1] ?? { calm: 0, bad: 0 };
  return (
    <svg
      width={SECONDS * 4}
      height={height}
      role="img"
      aria-label={`events a second over the last minute: at most ${most}, now ${now.calm + now.bad}`}
    >
      {rates.map((r, at) => (
        <g key={at} transform={`translate(${at * 4} 0)`}>
          <Calm x={0} y={height - px(r.calm)} width={3} height={px(r.calm)} />
          <Bad x={0} y={height - px(r.calm) - px(r.bad)} width={3} height={px(r.bad)} />
        </g>
      ))}
    </svg>
  );
}

const Calm = styled.rect`
  fill: ${(p) => p.theme.severity.info};
`;

const Bad = styled.rect`
  fill: ${(p) => p.theme.severity.error};
`;

const NONE: ReadonlySet<string> = new Set();
const NO_COLUMNS: Column[] = [];
/** Fields and values of the last hour are proposed. */
const LAST_HOUR = { from: "now-1h", to: "now" };

/** What comes, as it comes: the newest on top, with pause, rate, and what passed unseen. */
export default function TailPage() {
  const { zone } = useZone();
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const query = params.get("q") ?? "";
  const asked = useAsked(query);
  const [draft, setDraft] = useState(query);
  const [paused, setPaused] = useState(false);
  const [chosen, setChosen] = useState<string>();
  const following = useFollow(query, paused);
  useEffect(() => setDraft(query), [query]);
  useKeys({ p: () => setPaused((p) => !p) });
  const ask = (q: string) => setParams(q ? { q } : {}, { replace: true });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    ask(draft);
  };
  const { error } = following;
  const reported = error instanceof ProblemError ? error.mistakes.map((m) => `${m.message}; ${m.cure}`).join(" ") : "";
  const at = following.events.findIndex((e) => e.id === chosen);
  const opened = following.events[at];
  const rate = following.rates.slice(-5).reduce((sum, r) => sum + r.calm + r.bad, 0) / 5;
  return (
    <Page>
      <Unseen>Tail</Unseen>
      <Bar role="search" onSubmit={submit}>
        <LazyQueryField
          value={draft}
          invalid={reported !== ""}
          range={LAST_HOUR}
          onChange={setDraft}
          onSubmit={ask}
          onLook={() => {}}
        />
        <Button type="submit" $chief>
          Follow
        </Button>
        <Button onPress={() => setPaused(!paused)}>{paused ? "go on" : "pause"}</Button>
      </Bar>
      <Facts>
        <span>
          <strong>{rate.toFixed(rate < 10 ? 1 : 0)}</strong> a second
        </span>
        <Strip rates={following.rates} />
        <span role="status">
          {paused ? `paused, ${following.waiting} new` : following.live ? "following" : error ? "stopped" : "…"}
        </span>
        {following.note && <Warn role="status">{following.note}</Warn>}
        {following.missed > 0 && <Warn>at least {following.missed} passed unseen: too many at once</Warn>}
        <Quiet onPress={() => navigate(`/search?${new URLSearchParams(query ? { q: query } : {})}`)}>
          search instead
        </Quiet>
      </Facts>
      {error ? (
        <Problem>{reported || error.message}</Problem>
      ) : (
        <Split>
          <EventList
            events={following.events}
            more={false}
            loading={!following.live}
            chosen={at}
            picked={NONE}
            columns={NO_COLUMNS}
            wrap={false}
            zone={zone}
            onColumns={() => {}}
            onPress={(n) => setChosen(following.events[n]?.id)}
            onMore={() => {}}
            onShown={() => {}}
          />
          {opened ? (
            <EventDetail
              key={opened.id}
              event={opened}
              zone={zone}
              query={query}
              range={undefined}
              acts={{
                narrow: (condition) => asked && ask(narrowed(asked, condition)),
                column: (field) => navigate(searchAddress({ query, columns: field })),
                breakdown: (field) => navigate(searchAddress({ query, fields: "1", field })),
                isTie: (field) => field === "trace",
              }}
              onOpen={(event) => navigate(searchAddress({ query, open: event.id }))}
              onClose={() => setChosen(undefined)}
            />
          ) : (
            <span />
          )}
        </Split>
      )}
      <Foot>
        <Muted>
          The same in the terminal: <Mono>calvex tail{query && ` '${query}'`}</Mono>
        </Muted>
      </Foot>
    </Page>
  );
}
