import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, type FormEvent } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { clock, date, parseNs } from "../../api/time";
import type { CompareAnswer, Finding } from "../../api/types";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Muted, Problem, Quiet } from "../../ui/controls";
import { number } from "../../ui/number";
import { Page } from "../../ui/page";
import { Spark } from "../../ui/spark";
import { useAsked, type Asked } from "../search/asked";
import { Progress } from "../search/Facts";
import { searchAddress, shellQuoted } from "../search/state";
import {
  asked as request,
  BASELINES,
  bars,
  compareAddress,
  comparedOf,
  figures,
  GROUPS,
  named,
  ofGroup,
  trendLabel,
  swapped,
  withFinding,
  type Compared,
} from "./model";

const Head = styled.div`
  h1 {
    font-size: ${type.head};
    margin: 0 0 ${space.xs};
    overflow-wrap: anywhere;
  }
  p {
    margin: 0 0 ${space.xs};
    color: ${(p) => p.theme.muted};
    display: flex;
    flex-wrap: wrap;
    gap: 2px ${space.l};
  }
`;

const Ask = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s} ${space.l};
  align-items: end;
  margin: ${space.s} 0 ${space.m};
  > :first-child {
    flex: 1 1 280px;
  }
  @media (max-width: 600px) {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    > :first-child {
      grid-column: 1 / -1;
    }
  }
`;

const Columns = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 300px;
  gap: ${space.xl};
  h2 {
    font-size: ${type.body};
    color: ${(p) => p.theme.muted};
    font-weight: 400;
    margin: ${space.l} 0 ${space.xs};
    border-bottom: 1px solid ${(p) => p.theme.line};
    padding-bottom: ${space.xs};
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Row = styled.li`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 220px 44px 140px 100px;
  gap: ${space.m};
  align-items: center;
  min-height: 30px;
  padding: 3px 0;
  .what {
    font-family: ${type.mono};
    font-size: ${type.small};
    overflow-wrap: anywhere;
  }
  .acts {
    font-family: ${type.text};
    white-space: nowrap;
    a {
      color: ${(p) => p.theme.faint};
      margin-left: ${space.s};
    }
  }
  &:hover .acts a,
  &:focus-within .acts a {
    color: ${(p) => p.theme.accent};
  }
  .figure {
    font-variant-numeric: tabular-nums;
    text-align: right;
    white-space: nowrap;
  }
  @media (max-width: 600px) {
    grid-template-columns: minmax(0, 1fr) 90px 44px;
    > :nth-child(n + 4) {
      display: none;
    }
  }
`;

const Axis = styled.div`
  display: grid;
  grid-template-columns: 1fr 1fr;
  height: 12px;
  > div {
    display: flex;
  }
  > :first-child {
    justify-content: flex-end;
    border-right: 1px solid ${(p) => p.theme.muted};
  }
`;

const Bar = styled.i<{ $colour: "calm" | "more" | "other" }>`
  display: block;
  height: 100%;
  background: ${(p) =>
    p.$colour === "calm" ? p.theme.calmBar : p.$colour === "more" ? p.theme.severity.error : p.theme.severity.warn};
`;

const New = styled.span`
  color: ${(p) => p.theme.mark};
  border: 1px solid currentColor;
  border-radius: 3px;
  padding: 0 4px;
  margin-right: ${space.s};
  font-family: ${type.text};
`;

/** Findings of a group that are shown at first. */
const FIRST = 8;

const WORDS: Partial<Record<Finding["change"], string>> = { new: "new", gone: "gone", fewer: "fewer", lower: "lower" };

/** One finding: its share in the baseline to the left of the axis, in the current set to the right. */
function Line({ finding, compared, query }: { finding: Finding; compared: Compared; query: Asked }) {
  const { baseline, current } = bars(finding);
  const word = WORDS[finding.change];
  const rising = finding.change === "new" || finding.change === "more" || finding.change === "higher";
  return (
    <Row data-testid="finding">
      <span className="what">
        {word && <New>{word}</New>}
        {named(finding)} {(finding.also ?? []).length > 0 && <Muted>also {finding.also?.join(", ")}</Muted>}
        <span className="acts">
          {" "}
          <Link
            to={searchAddress({
              query: withFinding(query, finding, false, compared.whole !== ""),
              from: compared.from,
              to: compared.to,
            })}
          >
            events
          </Link>
          {compared.whole === "" && (
            <Link
              title="leave it out and compare again"
              to={compareAddress({ ...compared, query: withFinding(query, finding, true) })}
            >
              without
            </Link>
          )}
        </span>
      </span>
      <Axis role="img" aria-label={`baseline and current: ${figures(finding)}`}>
        <div>
          <Bar $colour="calm" style={{ width: `${baseline * 100}%` }} />
        </div>
        <div>
          <Bar $colour={rising ? "more" : "other"} style={{ width: `${current * 100}%` }} />
        </div>
      </Axis>
      <span className="figure" title="how much of the difference it explains">
        {Math.round(finding.explained * 100)} %
      </span>
      <Muted className="figure">{figures(finding)}</Muted>
      {finding.trend ? (
        <Spark
          values={[...finding.trend.baseline, ...finding.trend.current]}
          bad={[...finding.trend.baseline.map(() => 0), ...finding.trend.current]}
          least={0}
          width={98}
          label={trendLabel(finding.trend)}
        />
      ) : (
        <span />
      )}
    </Row>
  );
}

/** Findings, group by group. */
function Groups({ findings, compared, query }: { findings: Finding[]; compared: Compared; query: Asked }) {
  const [all, setAll] = useState("");
  return GROUPS.map(([name, kinds]) => {
    const list = ofGroup(findings, kinds);
    return (
      list.length > 0 && (
        <section key={name} aria-label={name}>
          <h2>{name}</h2>
          <ul>
            {list.slice(0, all === name ? list.length : FIRST).map((finding) => (
              <Line key={`${finding.field} ${finding.value}`} finding={finding} compared={compared} query={query} />
            ))}
          </ul>
          {list.length > FIRST && all !== name && <Quiet onPress={() => setAll(name)}>all {list.length}</Quiet>}
        </section>
      )
    );
  });
}

/** What a comparison found, and the changes made in between beside it. */
function Found({ answer, compared, query }: { answer: CompareAnswer; compared: Compared; query: Asked }) {
  const { zone } = useZone();
  const marks = answer.findings.filter((finding) => finding.kind === "mark");
  const nothing = answer.findings.length === marks.length;
  return (
    <Columns>
      <div>
        {nothing && <Muted as="p">Nothing stands out beyond what chance makes.</Muted>}
        <Groups findings={answer.findings} compared={compared} query={query} />
      </div>
      <aside>
        <h2>changes made, the nearest first</h2>
        {marks.length === 0 && <Muted>No event with a mark in either range.</Muted>}
        <ul>
          {marks.map((mark) => {
            const at = parseNs(mark.at ?? "1970-01-01T00:00:00Z");
            return (
              <li key={`${mark.at} ${mark.value}`}>
                <Link
                  style={{ color: "inherit" }}
                  to={searchAddress({
                    query: mark.query ?? "",
                    from: answer.baseline.range.from,
                    to: answer.current.range.to,
                  })}
                >
                  {mark.value}
                </Link>
                <br />
                <Muted>
                  {date(at, zone)} {clock(at, zone, 0)}
                </Muted>
              </li>
            );
          })}
        </ul>
        {answer.too_many_values.length > 0 && (
          <>
            <h2>not compared</h2>
            <Muted>Too many values: {answer.too_many_values.join(", ")}</Muted>
          </>
        )}
      </aside>
    </Columns>
  );
}

/** What is different: two sets of events as paired bars, the best explanation first. */
export default function ComparePage() {
  const { zone } = useZone();
  const navigate = useNavigate();
  const [params] = useSearchParams();
  const compared = comparedOf(params);
  const [draft, setDraft] = useState(compared);
  const [done, setDone] = useState<[number, number]>([0, 0]);
  const [soFar, setSoFar] = useState<Finding[]>([]);
  const key = params.toString();
  useEffect(() => setDraft(comparedOf(new URLSearchParams(key))), [key]);
  const query = useAsked(compared.query);
  const comparison = useQuery({
    queryKey: ["compare", compared],
    queryFn: ({ signal }) => {
      setDone([0, 0]);
      setSoFar([]);
      return api.compare(request(compared), { progress: (n, of) => setDone([n, of]), findings: setSoFar }, signal);
    },
    staleTime: 60_000,
  });
  const answer = comparison.data;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    navigate(compareAddress({ ...draft, earlier: draft.beforeFrom ? "" : draft.earlier }));
  };
  const moment = (text: string) => `${date(parseNs(text), zone)} ${clock(parseNs(text), zone, 0)}`;
  const losses = [...(answer?.explain.left_out ?? []), ...(answer?.explain.stopped ? [answer.explain.stopped] : [])];
  const own = (key: keyof Compared) => (value: string) => setDraft({ ...draft, [key]: value });
  return (
    <Page>
      <Head>
        <h1>{answer ? answer.headline : "What is different"}</h1>
        {answer &&
          (["baseline", "current"] as const).map((side) => (
            <p key={side} data-testid={side}>
              <strong>{side}</strong>
              <span>
                {moment(answer[side].range.from)} to {moment(answer[side].range.to)}
              </span>
              <span>
                {number(answer[side].count.events)} events, {number(answer[side].count.units)} requests
              </span>
              <code>{answer[side].query || "every event"}</code>
            </p>
          ))}
      </Head>
      <Ask onSubmit={submit}>
        <Field label="Events" name="query" value={draft.query} onChange={own("query")} optional mono />
        <Field label="from" name="from" value={draft.from} onChange={own("from")} mono />
        <Field label="to" name="to" value={draft.to} onChange={own("to")} mono />
        <Field
          label="compared from"
          name="before_from"
          value={draft.beforeFrom}
          onChange={own("beforeFrom")}
          placeholder="just before"
          optional
          mono
        />
        <Field label="to" name="before_to" value={draft.beforeTo} onChange={own("beforeTo")} optional mono />
        {!draft.beforeFrom && !draft.beforeQuery && (
          <Choice label="or" value={draft.earlier} options={BASELINES} onChange={own("earlier")} />
        )}
        <Button type="submit" $chief>
          Compare
        </Button>
        {answer && (
          <Quiet
            onPress={() =>
              navigate(
                compareAddress(swapped(compared, { baseline: answer.baseline.range, current: answer.current.range })),
              )
            }
          >
            swap
          </Quiet>
        )}
        {answer && !compared.beforeFrom && (
          <Quiet
            onPress={() =>
              navigate(
                compareAddress({
                  ...compared,
                  earlier: "",
                  from: answer.current.range.from,
                  to: answer.current.range.to,
                  beforeFrom: answer.baseline.range.from,
                  beforeTo: answer.baseline.range.to,
                }),
              )
            }
          >
            fix the ranges for a link
          </Quiet>
        )}
      </Ask>
      {comparison.isFetching && done[1] > 0 && (
        <Progress role="progressbar" aria-label="Compared" aria-valuenow={done[0]} aria-valuemax={done[1]}>
          <div style={{ width: `${(done[0] / done[1]) * 100}%` }} />
        </Progress>
      )}
      {comparison.error && <Problem>{comparison.error.message}</Problem>}
      {losses.length > 0 && <Problem>The comparison is incomplete: {losses.join("; ")}</Problem>}
      {answer && typeof answer.sampled === "number" && (
        <Muted as="p">From {Math.round(answer.sampled * 100)} % of the pages, as there are many events.</Muted>
      )}
      {!answer && comparison.isFetching && query && soFar.length > 0 && (
        <Columns aria-label="So far" data-testid="so-far">
          <div>
            <Muted as="p">So far; figures and order may still change.</Muted>
            <Groups findings={soFar} compared={compared} query={{ ...query, over: "" }} />
          </div>
        </Columns>
      )}
      {answer && query && <Found answer={answer} compared={compared} query={{ ...query, over: "" }} />}
      <Muted as="p">
        in the terminal:{" "}
        <code>
          calvex compare {shellQuoted(compared.query)} --from {shellQuoted(compared.from)} --to{" "}
          {shellQuoted(compared.to)}
          {compared.beforeFrom && ` --before-from ${shellQuoted(compared.beforeFrom)}`}
          {compared.beforeTo && ` --before-to ${shellQuoted(compared.beforeTo)}`}
          {compared.beforeQuery && ` --before-query ${shellQuoted(compared.beforeQuery)}`}
          {compared.earlier && ` --earlier ${shellQuoted(compared.earlier)}`}
          {compared.whole && " --whole-traces"}
        </code>
      </Muted>
    </Page>
  );
}
