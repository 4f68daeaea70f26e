import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, formatNs, parseNs } from "../../api/time";
import { SEVERITIES, type HistogramAnswer, type SearchAnswer } from "../../api/types";
import { useCompact } from "../../app/compact";
import { useKeys } from "../../app/keys";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { EventDetail } from "./EventDetail";
import { EventList } from "./EventList";
import { QueryBar } from "./QueryBar";
import { Spine } from "./Spine";
import { Measured } from "./Measured";
import { narrowed, shellQuoted, useSearchState, type SearchState } from "./state";

const Page = styled.div`
  height: 100%;
  display: grid;
  grid-template-rows: auto auto minmax(0, 1fr);
`;

const Facts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.l};
  align-items: baseline;
  padding: 0 ${space.l} ${space.s};
  border-bottom: 1px solid ${(p) => p.theme.line};
  color: ${(p) => p.theme.muted};
  strong {
    color: ${(p) => p.theme.text};
  }
`;

const Follow = styled(Link)`
  color: ${(p) => p.theme.muted};
  text-decoration: none;
  &:hover {
    color: ${(p) => p.theme.accent};
  }
`;

const Split = styled.div`
  display: grid;
  grid-template-columns: auto minmax(0, 1fr) auto;
  min-height: 0;
`;

const Empty = styled.div`
  padding: ${space.xl};
  max-width: 640px;
  h2 {
    font-size: ${type.lead};
    margin: 0 0 ${space.s};
  }
  li {
    margin-bottom: ${space.xs};
  }
`;

const Counts = styled.details`
  table {
    position: absolute;
    z-index: 4;
    background: ${(p) => p.theme.raised};
    border: 1px solid ${(p) => p.theme.line};
    max-height: 60vh;
    overflow: auto;
    display: block;
    padding: ${space.s};
  }
  th,
  td {
    text-align: right;
    padding: 0 ${space.s};
  }
`;

/** The same counts as the spine draws, to be read. */
function CountTable({ counts, zone }: { counts: HistogramAnswer; zone: "utc" | "local" }) {
  return (
    <Counts>
      <summary>counts</summary>
      <table>
        <thead>
          <tr>
            <th scope="col">from</th>
            {SEVERITIES.map((s) => (
              <th key={s} scope="col">
                {s}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {counts.buckets.map((bucket, i) => {
            const start = BigInt(counts.from_ns) + BigInt(i) * BigInt(counts.step_ns);
            return (
              <tr key={String(start)}>
                <th scope="row">{clock(start, zone, 0)}</th>
                {bucket.map((n, s) => (
                  <td key={s}>{n}</td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </table>
    </Counts>
  );
}

/** Search: figures where the query has a `measure`, else events. */
export default function SearchPage() {
  const [state, change] = useSearchState();
  // Only a text with the word can have the clause; whether it is one, the service's own parser tells.
  const worded = /\bmeasure\b/.test(state.query);
  const check = useQuery({
    queryKey: ["check", state.query],
    enabled: worded,
    queryFn: ({ signal }) => api.check(state.query, signal),
  });
  if (worded && check.isPending) return null;
  const clause = worded ? check.data?.syntax.parts?.find((part) => part.kind === "measure") : undefined;
  return clause ? <Measured state={state} change={change} clause={clause} /> : <Events state={state} change={change} />;
}

/** Events: spine, list, event. */
function Events({ state, change }: { state: SearchState; change: (c: Partial<SearchState>) => void }) {
  const { zone } = useZone();
  const compact = useCompact();
  const navigate = useNavigate();
  const [chosen, setChosen] = useState(-1);
  const [shown, setShown] = useState<[bigint, bigint]>();
  const ask = { query: state.query, from: state.from, to: state.to };

  const counts = useQuery({
    queryKey: ["histogram", ask],
    queryFn: ({ signal }) => api.histogram({ ...ask, buckets: 110 }, signal),
    placeholderData: keepPreviousData,
  });
  // The list asks for the range as the histogram understood it, so that "now" is one moment for both.
  const range = counts.data?.range;
  const sought = state.seek && range ? (state.order === "newest" ? { to: state.seek } : { from: state.seek }) : {};
  const list = useInfiniteQuery({
    queryKey: ["search", state.query, range, state.order, state.seek],
    enabled: range !== undefined && !counts.isPlaceholderData,
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam, signal }) =>
      api.search(
        {
          query: stripOver(state.query),
          from: range?.from,
          to: range?.to,
          ...sought,
          order: state.order,
          limit: 200,
          cursor: pageParam,
        },
        signal,
      ),
    getNextPageParam: (last: SearchAnswer) => last.cursor ?? undefined,
  });
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: ({ signal }) => api.alerts(signal) });

  const events = useMemo(() => list.data?.pages.flatMap((p) => p.events) ?? [], [list.data]);
  const opened = events.find((e) => e.id === state.open);
  const answer = list.data?.pages[0];
  const error = counts.error ?? list.error;
  const fetchMore = list.fetchNextPage;
  const onMore = useCallback(() => void fetchMore(), [fetchMore]);
  const onShown = useCallback((a: bigint, b: bigint) => setShown([a, b]), []);
  const openAt = (index: number) => {
    const event = events[index];
    if (!event) return;
    setChosen(index);
    if (state.open) change({ open: event.id });
  };
  const choose = (by: number) => openAt(Math.min(Math.max(chosen + by, 0), events.length - 1));
  const current = events[chosen];
  const shift = (direction: bigint) => {
    if (!range) return;
    const [from, to] = [parseNs(range.from), parseNs(range.to)];
    change({ from: formatNs(from + (to - from) * direction), to: formatNs(to + (to - from) * direction) });
  };
  useKeys({
    j: () => choose(1),
    k: () => choose(-1),
    Enter: () => current && change({ open: current.id }),
    Escape: () => change({ open: "" }),
    s: () => current?.trace && navigate(`/story/${current.trace}`),
    "[": () => shift(-1n),
    "]": () => shift(1n),
  });

  const explain = answer?.explain;
  const skipped = explain ? explain.skipped_by_time + explain.skipped_by_filter + explain.skipped_by_order : 0;
  const axis = range && { fromNs: parseNs(range.from), toNs: parseNs(range.to), newestFirst: state.order === "newest" };
  const pins = (alerts.data ?? [])
    .map((a) => ({ ns: parseNs(a.raised), name: a.rule }))
    .filter((p) => axis && p.ns >= axis.fromNs && p.ns < axis.toNs);
  const losses = [...(explain?.left_out ?? []), ...(explain?.stopped ? [explain.stopped] : [])];

  return (
    <Page>
      <QueryBar state={state} change={change} error={error} />
      <Facts aria-live="polite">
        <span>
          <strong>
            {counts.data && !counts.error ? counts.data.total.toLocaleString("en").replaceAll(",", " ") : "…"}
          </strong>{" "}
          events
        </span>
        <Quiet onPress={() => change({ order: state.order === "newest" ? "oldest" : "newest" })}>
          {state.order} first
        </Quiet>
        <Follow to={`/tail?${new URLSearchParams(state.query ? { q: state.query } : {})}`}>follow what comes</Follow>
        {explain && (
          <span>
            {skipped} of {explain.chunks} chunks skipped · {(explain.took_us / 1000).toFixed(1)} ms
          </span>
        )}
        {counts.data && <CountTable counts={counts.data} zone={zone} />}
        <Quiet onPress={() => range && change({ from: range.from, to: range.to })}>fix the range for a link</Quiet>
        {!compact && (
          <Muted>
            same in the terminal: calvex search {shellQuoted(state.query)} --from {state.from} --to {state.to}
          </Muted>
        )}
      </Facts>
      {error && !("mistakes" in error && (error.mistakes as unknown[]).length > 0) ? (
        <Problem>
          {error.message} <Quiet onPress={() => void counts.refetch()}>Try again</Quiet>
        </Problem>
      ) : (
        <Split>
          {axis ? (
            <Spine
              counts={counts.data}
              axis={axis}
              shown={events.length > 0 ? shown : undefined}
              pins={pins}
              zone={zone}
              onSeek={(ns) => {
                setChosen(-1);
                change({ seek: formatNs(ns), open: "" });
              }}
              onRange={(from, to) => change({ from: formatNs(from), to: formatNs(to) })}
            />
          ) : (
            <span />
          )}
          <div style={{ display: "grid", gridTemplateRows: "auto minmax(0, 1fr)", minHeight: 0, minWidth: 0 }}>
            <div>
              {losses.map((loss) => (
                <Problem key={loss}>Not all could be read: {loss}</Problem>
              ))}
              {answer?.warnings?.map((w) => (
                <Muted key={w.message} style={{ padding: `${space.s} ${space.l}`, display: "block" }}>
                  Column {w.column}: {w.message}; {w.cure}.
                </Muted>
              ))}
            </div>
            {answer?.empty ? (
              <Empty data-testid="empty">
                <h2>Nothing found</h2>
                <ul>
                  {answer.empty.reasons.map((r) => (
                    <li key={r}>{r}</li>
                  ))}
                </ul>
              </Empty>
            ) : (
              <EventList
                key={`${state.query} ${range?.from} ${range?.to} ${state.order} ${state.seek}`}
                events={events}
                more={list.hasNextPage}
                loading={list.isFetching}
                chosen={chosen >= 0 ? chosen : events.findIndex((e) => e.id === state.open)}
                zone={zone}
                onChoose={setChosen}
                onOpen={(e) => change({ open: e.id })}
                onMore={onMore}
                onShown={onShown}
              />
            )}
          </div>
          {opened ? (
            <EventDetail
              event={opened}
              zone={zone}
              onNarrow={(condition) => change({ query: narrowed(state.query, condition) })}
              onClose={() => change({ open: "" })}
            />
          ) : (
            <span />
          )}
        </Split>
      )}
    </Page>
  );
}

/** The filter part: the range has been understood already, and a sought list must be free to begin within it. */
function stripOver(query: string): string {
  return query.replace(/(^|\s)over\s+(last\s+\S+|today|\S+\s+(to|around)\s+\S+)\s*$/s, "");
}
