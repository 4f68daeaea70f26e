import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import styled, { useTheme } from "styled-components";
import { api } from "../../api/client";
import { formatNs, parseNs } from "../../api/time";
import type { LogEvent } from "../../api/types";
import { useCompact } from "../../app/compact";
import { useKeys } from "../../app/keys";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { severityBins, stackedBins, stackNames, useCounts, useStack } from "./bins";
import { Download } from "./Download";
import { ErrorsView } from "./ErrorsView";
import { EventDetail } from "./EventDetail";
import { EventList } from "./EventList";
import { useEvents } from "./events";
import { Explain } from "./Explain";
import { CountTable, Facts, Follow, Legend, Progress, Switch, Switches, View, Views } from "./Facts";
import { FieldsPanel } from "./FieldsPanel";
import { asNdjson, asText, usePicked } from "./picked";
import { Nothing } from "./Nothing";
import { QueryBar } from "./QueryBar";
import { ShapesView } from "./ShapesView";
import { Spine, type Pin } from "./Spine";
import { compareAddress } from "../compare/model";
import { narrowed, within, type Asked } from "./asked";
import { columnsOf, columnsText, shellQuoted, VIEWS, type Change, type SearchState } from "./state";
import { number } from "../../ui/number";
import { Opens } from "../../ui/popover";

/** Bars of the spine, and how often they are counted anew while one follows. */
const BARS = 110;
const FOLLOW_MS = 5000;
/** An answer that takes longer shows how far it is. */
const PATIENCE_MS = 200;

const Page = styled.div`
  height: 100%;
  display: grid;
  grid-template-rows: auto auto minmax(0, 1fr);
  grid-template-columns: minmax(0, 1fr);
  min-height: 0;
`;

const Split = styled.div<{ $compact: boolean }>`
  display: grid;
  ${(p) =>
    p.$compact
      ? "grid-template: auto minmax(0, 1fr) / minmax(0, 1fr)"
      : "grid-template-columns: auto minmax(0, 1fr) auto"};
  min-height: 0;
`;

const Middle = styled.div`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
`;

const PickedBar = styled.div`
  padding: ${space.xs} ${space.l};
  background: ${(p) => p.theme.raised};
  border-bottom: 1px solid ${(p) => p.theme.line};
`;

/** Whether something has been going on for a while. */
function useLong(going: boolean): boolean {
  const [long, setLong] = useState(false);
  useEffect(() => {
    if (!going) return;
    const timer = window.setTimeout(() => setLong(true), PATIENCE_MS);
    return () => {
      window.clearTimeout(timer);
      setLong(false);
    };
  }, [going]);
  return going && long;
}

/** Moments pinned to the spine: alerts, and events that are marks. */
function usePins(range: { from: string; to: string } | undefined): Pin[] {
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: ({ signal }) => api.alerts(signal) });
  const marks = useQuery({
    queryKey: ["marks", range],
    enabled: range !== undefined,
    queryFn: ({ signal }) => api.search({ query: "has mark", ...range, limit: 30 }, signal),
  });
  return useMemo(() => {
    if (!range) return [];
    const [from, to] = [parseNs(range.from), parseNs(range.to)];
    const raised = (alerts.data ?? []).map((a) => ({ ns: parseNs(a.raised), name: a.rule }));
    const marked = (marks.data?.events ?? []).map((e) => ({
      ns: parseNs(e.time),
      name: typeof e.fields.mark === "string" ? e.fields.mark : e.message,
    }));
    return [...raised, ...marked].filter((p) => p.ns >= from && p.ns < to);
  }, [alerts.data, marks.data, range]);
}

/** Events: spine, list, event; or the shapes of their messages; or the failures by problem. */
export function Events(props: { state: SearchState; change: Change; asked: Asked | undefined }) {
  const { state, change, asked } = props;
  const { zone } = useZone();
  const theme = useTheme();
  const compact = useCompact();
  const navigate = useNavigate();
  const client = useQueryClient();
  const [chosen, setChosen] = useState(-1);
  const [beside, setBeside] = useState<LogEvent>();
  const [shown, setShown] = useState<[bigint, bigint]>();
  const following = state.follow === "1";
  const ask = useMemo(
    () => ({ query: state.query, from: state.from, to: state.to }),
    [state.query, state.from, state.to],
  );
  const { query: counted, counts, progress } = useCounts(ask, BARS, following && FOLLOW_MS);
  const answered = counted.isPlaceholderData ? undefined : counted.data;

  // While one follows, the counts move on and the list stays what it was until it is asked to follow as well.
  const question = JSON.stringify(ask);
  const [held, setHeld] = useState<{ asked: string; range: { from: string; to: string }; total: number }>();
  if (answered && held?.asked !== question) setHeld({ asked: question, range: answered.range, total: answered.total });
  const range = held?.asked === question ? held.range : undefined;
  const fresh = answered && held?.asked === question ? Math.max(answered.total - held.total, 0) : 0;

  const { list, key, events, answer, onMore, progress: finding } = useEvents(state, asked, range);
  const { stacked, error: stackError } = useStack(state.by, asked, answered);
  const pins = usePins(range);
  const ties = useQuery({ queryKey: ["ties"], queryFn: ({ signal }) => api.ties(signal), staleTime: 60_000 });
  const { picked, toggle, reach, clear, chosen: pickedEvents } = usePicked(events);
  const columns = useMemo(() => columnsOf(state.columns), [state.columns]);

  const bins = useMemo(() => {
    const bySeverity = counts ? severityBins(counts, theme) : [];
    return stacked && state.by ? stackedBins(bySeverity, stacked, theme) : bySeverity;
  }, [counts, stacked, state.by, theme]);
  const opened = events.find((e) => e.id === state.open) ?? (beside?.id === state.open ? beside : undefined);
  const error = counted.error ?? list.error;
  const onShown = useCallback((a: bigint, b: bigint) => setShown([a, b]), []);
  const openAt = (index: number) => {
    const event = events[index];
    if (!event) return;
    setChosen(index);
    if (state.open) change({ open: event.id });
  };
  const choose = (by: number) => openAt(Math.min(Math.max(chosen + by, 0), events.length - 1));
  const current = events[chosen];
  const step = (direction: bigint) => {
    if (!range) return;
    const [from, to] = [parseNs(range.from), parseNs(range.to)];
    const by = (to - from) * direction;
    change(within(asked, { from: formatNs(from + by), to: formatNs(to + by) }));
  };
  const addColumn = (field: string) => {
    if (!columns.some((c) => c.field === field)) change({ columns: columnsText([...columns, { field, width: 140 }]) });
  };
  // What was asked for last is seen: fields take the place of an open event.
  const showFields = () => change({ fields: state.fields && !state.open ? "" : "1", open: "" });
  useKeys({
    j: () => choose(1),
    k: () => choose(-1),
    x: () => chosen >= 0 && toggle(chosen),
    Enter: () => current && change({ open: current.id }),
    Escape: () => change({ open: "" }),
    s: () => current?.trace && navigate(`/story/${current.trace}`),
    f: showFields,
    w: () => change({ wrap: state.wrap ? "" : "1" }),
    v: () => change({ view: VIEWS[(VIEWS.indexOf(state.view) + 1) % VIEWS.length] }),
    "[": () => step(-1n),
    "]": () => step(1n),
  });
  const narrow = (condition: string) => asked && change({ query: narrowed(asked, condition) });

  const searching = counted.isFetching || (list.isFetching && !list.data);
  const waiting = useLong(searching && !following);
  const [done, total] = finding?.total
    ? [finding.done, finding.total]
    : progress
      ? [progress.done, progress.total]
      : [0, 0];
  const explain = answer?.explain;
  const losses = [...(explain?.left_out ?? []), ...(explain?.stopped ? [explain.stopped] : [])];
  const mistaken = error && "mistakes" in error && (error.mistakes as unknown[]).length > 0;
  const axis = range && { fromNs: parseNs(range.from), toNs: parseNs(range.to), newestFirst: state.order === "newest" };
  const span = `--from ${shellQuoted(state.from)} --to ${shellQuoted(state.to)}`;
  const terminal =
    state.view !== "events"
      ? `calvex ${state.view} ${shellQuoted(state.query)} ${span}`
      : state.fields && state.field
        ? `calvex breakdown ${shellQuoted(state.field)} -q ${shellQuoted(state.query)} ${span}`
        : `calvex search ${shellQuoted(state.query)} ${span}${
            columns.length ? ` --columns ${shellQuoted(columns.map((c) => c.field).join(","))}` : ""
          }`;

  return (
    <Page>
      <QueryBar state={state} change={change} error={error} range={range} />
      {answer?.notes?.map((note) => (
        <Muted as="p" key={note}>
          {note}
        </Muted>
      ))}
      <Facts>
        <span aria-live="polite">
          <strong data-testid="total">{answered && !counted.error ? number(answered.total) : "…"}</strong> events
        </span>
        {fresh > 0 && answered && (
          <Quiet
            $on
            onPress={() => {
              setHeld({ asked: question, range: answered.range, total: answered.total });
              clear();
            }}
          >
            {number(fresh)} new, show
          </Quiet>
        )}
        <Views role="group" aria-label="View">
          {VIEWS.map((view) => (
            <View
              key={view}
              $on={state.view === view}
              aria-pressed={state.view === view}
              onPress={() => change({ view, field: "" })}
            >
              {view}
            </View>
          ))}
          <View $on={state.fields === "1"} aria-pressed={state.fields === "1"} onPress={showFields}>
            fields
          </View>
        </Views>
        <Switches role="group" aria-label="How it is shown">
          <Switch
            $on={state.order === "newest"}
            onPress={() => change({ order: state.order === "newest" ? "oldest" : "newest" })}
          >
            {state.order} first
          </Switch>
          <Switch
            $on={state.wrap === "1"}
            aria-pressed={state.wrap === "1"}
            onPress={() => change({ wrap: state.wrap ? "" : "1" })}
          >
            wrap
          </Switch>
        </Switches>
        <CountTable bins={bins} zone={zone} />
        {state.by && stacked && <Legend by={state.by} names={stackNames(stacked, theme)} />}
        {state.by && <Quiet onPress={() => change({ by: "" })}>by severity again</Quiet>}
        {explain && range && <Explain explain={explain} range={range} />}
        {range && <Download state={state} range={range} total={answered?.total} />}
        <Follow to={`/tail?${new URLSearchParams(state.query ? { q: state.query } : {})}`}>tail</Follow>
        {range && asked && (
          <Follow to={compareAddress({ query: asked.filter, from: range.from, to: range.to })}>
            what is different?
          </Follow>
        )}
        {range && <Quiet onPress={() => change(within(asked, range))}>fix the range for a link</Quiet>}
        {waiting && (
          <span role="status" data-testid="progress">
            {total > 0 ? `${number(done)} of ${number(total)} pages` : "reading …"}{" "}
            <Quiet
              onPress={() => {
                void client.cancelQueries({ queryKey: ["histogram"] });
                void client.cancelQueries({ queryKey: ["search"] });
              }}
            >
              stop
            </Quiet>
          </span>
        )}
        {!compact && (
          <Opens name="in the terminal" label="The same in the terminal">
            {() => <code>{terminal}</code>}
          </Opens>
        )}
      </Facts>
      {error && !mistaken ? (
        <Problem>
          {error.message} <Quiet onPress={() => void Promise.all([counted.refetch(), list.refetch()])}>Try again</Quiet>
        </Problem>
      ) : (
        <Split $compact={compact}>
          {axis ? (
            <Spine
              bins={bins}
              axis={axis}
              lying={compact}
              shown={events.length > 0 && state.view === "events" ? shown : undefined}
              pins={pins}
              zone={zone}
              onSeek={(ns) => {
                setChosen(-1);
                change({ seek: formatNs(ns), open: "" });
              }}
              onRange={(from, to) => change(within(asked, { from: formatNs(from), to: formatNs(to) }))}
            />
          ) : (
            <span />
          )}
          <Middle>
            <div>
              {waiting && (
                <Progress>
                  <div style={{ width: `${total ? (done / total) * 100 : 5}%` }} />
                </Progress>
              )}
              {losses.map((loss) => (
                <Problem key={loss}>Not all could be read: {loss}</Problem>
              ))}
              {stackError && <Problem>The spine cannot be stacked so: {stackError.message}</Problem>}
              {picked.size > 0 && (
                <PickedBar>
                  {picked.size} picked:{" "}
                  <Quiet onPress={() => void navigator.clipboard.writeText(asNdjson(pickedEvents()))}>
                    copy as NDJSON
                  </Quiet>
                  <Quiet onPress={() => void navigator.clipboard.writeText(asText(pickedEvents(), zone))}>
                    copy as text
                  </Quiet>
                  <Quiet onPress={clear}>none</Quiet>
                </PickedBar>
              )}
            </div>
            {state.view === "shapes" && range && asked ? (
              <ShapesView state={state} asked={asked} range={range} zone={zone} change={change} />
            ) : state.view === "errors" && range && asked ? (
              <ErrorsView state={state} asked={asked} range={range} zone={zone} change={change} />
            ) : answer?.empty ? (
              <Nothing
                empty={answer.empty}
                asked={asked}
                onQuery={(query) => change({ query })}
                onDay={() => change(within(asked, { from: "now-1d", to: "now" }))}
              />
            ) : (
              <EventList
                key={key}
                events={events}
                more={list.hasNextPage}
                loading={list.isFetching}
                chosen={chosen >= 0 ? chosen : events.findIndex((e) => e.id === state.open)}
                picked={picked}
                columns={columns}
                wrap={state.wrap === "1"}
                zone={zone}
                onColumns={(next) => change({ columns: columnsText(next) })}
                onPress={(index, how) => {
                  if (how === "reach") return reach(index);
                  if (how === "pick") return toggle(index);
                  setChosen(index);
                  const event = events[index];
                  if (event) change({ open: event.id });
                }}
                onMore={onMore}
                onShown={onShown}
              />
            )}
          </Middle>
          {opened ? (
            <EventDetail
              key={opened.id}
              event={opened}
              zone={zone}
              query={state.query}
              range={range}
              acts={{
                narrow,
                column: addColumn,
                breakdown: (field) => change({ fields: "1", field, open: "" }),
                isTie: (field) =>
                  field === "trace" || (ties.data ?? []).some((t) => t.name === field || t.spellings.includes(field)),
              }}
              onOpen={(event) => {
                setBeside(event);
                change({ open: event.id });
              }}
              onClose={() => change({ open: "" })}
            />
          ) : state.fields === "1" ? (
            <FieldsPanel
              state={state}
              asked={asked}
              range={range}
              change={change}
              onNarrow={narrow}
              onColumn={addColumn}
            />
          ) : (
            <span />
          )}
        </Split>
      )}
    </Page>
  );
}
