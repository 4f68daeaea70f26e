import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import type { Json, MeasureAnswer } from "../../api/types";
import { radius, space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { Table } from "../../ui/table";
import { Explain } from "./Explain";
import { figure } from "./figure";
import { QueryBar } from "./QueryBar";
import { Steps } from "./Steps";
import { figuresCsv, handOver } from "./download";
import { narrowed, within, type Asked } from "./asked";
import { literal, shellQuoted, type Change, type SearchState } from "./state";
import { number } from "../../ui/number";

/** Groups shown at first; the others wait behind their names. */
const SHOWN = 6;

const Page = styled.div`
  height: 100%;
  display: grid;
  grid-template: auto minmax(0, 1fr) / minmax(0, 1fr);
`;

const Body = styled.div`
  overflow: auto;
  padding: 0 ${space.l} ${space.l};
`;

const Facts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.l};
  margin: 0 0 ${space.m};
  color: ${(p) => p.theme.muted};
`;

const Figure = styled.div`
  display: inline-grid;
  margin: ${space.l} ${space.xl} ${space.l} 0;
  strong {
    font-size: 40px;
    line-height: 1.1;
    font-variant-numeric: tabular-nums;
  }
`;

const Cell = styled.td`
  && {
    min-width: 120px;
    padding-right: ${space.l};
  }
  a {
    display: grid;
    grid-template-columns: 76px minmax(40px, 1fr);
    gap: ${space.s};
    align-items: center;
    color: inherit;
    text-decoration: none;
    font-variant-numeric: tabular-nums;
    text-align: right;
  }
  a:hover {
    color: ${(p) => p.theme.accent};
  }
`;

const Bar = styled.span`
  display: block;
  height: 12px;
  background: ${(p) => p.theme.calmBar};
  border-radius: 0 ${radius} ${radius} 0;
`;

/** What a group is called. */
function named(shapes: MeasureAnswer["shapes"], values: Json[]): string {
  const reported = values.map((value) => {
    if (value === null) return "(missing)";
    const text = typeof value === "string" ? value : JSON.stringify(value);
    return shapes?.[text] ?? text;
  });
  return reported.join(" · ") || "all";
}

/** Figures of a `measure`: one number, bars by group, or bars down the page, step by step. Each opens its events. */
export function Measured({ state, change, asked }: { state: SearchState; change: Change; asked: Asked }) {
  const { zone } = useZone();
  const ask = { query: state.query, from: state.from, to: state.to };
  const measured = useQuery({ queryKey: ["measure", ask], queryFn: ({ signal }) => api.measure(ask, signal) });
  const [chosen, setChosen] = useState(0);
  const [hidden, setHidden] = useState<Record<string, boolean>>({});
  const answer = measured.data;
  const open = (values: Json[], range: { from: string; to: string }) => {
    const conditions = (answer?.per ?? []).map((field, n) => {
      const value = values[n];
      if (value === null || value === undefined) return `not has ${field}`;
      return `${field}=${literal(typeof value === "string" ? value : JSON.stringify(value))}`;
    });
    const q = narrowed({ ...asked, over: "" }, ...conditions);
    return `/search?${new URLSearchParams({ ...(q ? { q } : {}), from: range.from, to: range.to })}`;
  };
  const error = measured.error;
  const unseen = error && !("mistakes" in error && (error.mistakes as unknown[]).length > 0);
  const at = Math.min(chosen, (answer?.aggregates.length ?? 1) - 1);
  const steps = answer?.steps ?? [];
  const losses = [...(answer?.explain.left_out ?? []), ...(answer?.explain.stopped ? [answer.explain.stopped] : [])];
  const groups = (answer?.groups ?? []).map((group, n) => {
    const name = named(answer?.shapes, group.values);
    return { ...group, name, shown: !(hidden[name] ?? (steps.length > 0 && n >= SHOWN)) };
  });
  const numeric = (value: Json | undefined) => (typeof value === "number" ? value : 0);
  const bar = (value: Json | undefined, most: number) => (
    <Bar style={{ width: `${Math.max(0, (numeric(value) / (most || 1)) * 100)}%` }} />
  );
  const unit = (n: number) => answer?.aggregates[n]?.unit ?? undefined;
  const heads = answer?.aggregates.map((a) => a.name + (a.error ? ` (± ${(a.error * 100).toFixed(0)} %)` : "")) ?? [];
  return (
    <Page>
      <QueryBar state={state} change={change} error={error} range={answer?.range} />
      <Body>
        {unseen && (
          <Problem>
            {error.message} <Quiet onPress={() => void measured.refetch()}>Try again</Quiet>
          </Problem>
        )}
        {measured.isPending && <Muted>Working it out …</Muted>}
        {answer && (
          <>
            <Facts aria-live="polite">
              <span>
                {answer.group_count === 1 ? "1 group" : `${number(answer.group_count)} groups`} ·{" "}
                {number(answer.explain.rows_looked_at)} events looked at
              </span>
              {answer.limited && <span>{answer.limited}</span>}
              <Quiet onPress={() => void figuresCsv(answer).then((blob) => handOver(blob, "calvex-figures.csv"))}>
                download
              </Quiet>
              <Link to={`/rules/new?${new URLSearchParams({ q: state.query })}`}>make a rule of this</Link>
              <Explain explain={answer.explain} range={answer.range} />
              {steps.length > 0 &&
                heads.length > 1 &&
                heads.map((head, n) => (
                  <Quiet key={head} $on={n === at} aria-pressed={n === at} onPress={() => setChosen(n)}>
                    {head}
                  </Quiet>
                ))}
              <span>
                The same in the terminal: calvex search {shellQuoted(state.query)} --from {state.from} --to {state.to}
              </span>
            </Facts>
            {losses.map((loss) => (
              <Problem key={loss}>Not all could be read: {loss}</Problem>
            ))}
            {groups.length === 0 && <Muted>No event in this range passes the filter.</Muted>}
          </>
        )}
        {answer && steps.length === 0 && answer.per.length === 0 && groups[0] && (
          <div data-testid="figures">
            {heads.map((head, n) => (
              <Figure key={head}>
                <Muted>{head}</Muted>
                <strong>{figure(groups[0]?.total[n] ?? null, unit(n))}</strong>
              </Figure>
            ))}
          </div>
        )}
        {answer && steps.length === 0 && answer.per.length > 0 && groups.length > 0 && (
          <Table aria-label="Figures">
            <thead>
              <tr>
                <th scope="col">{answer.per.join(" · ")}</th>
                {heads.map((head) => (
                  <th key={head} scope="col">
                    {head}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {groups.map((group) => (
                <tr key={group.name}>
                  <td>{group.name}</td>
                  {heads.map((head, n) => (
                    <Cell key={head}>
                      <Link to={open(group.values, answer.range)} title="open these events">
                        {figure(group.total[n] ?? null, unit(n))}
                        {bar(group.total[n], Math.max(...groups.map((g) => numeric(g.total[n]))))}
                      </Link>
                    </Cell>
                  ))}
                </tr>
              ))}
            </tbody>
          </Table>
        )}
        {answer && steps.length > 0 && groups.length > 0 && (
          <>
            <Steps
              steps={steps}
              groups={groups}
              at={at}
              unit={unit(at)}
              zone={zone}
              onShow={(name, shown) => setHidden({ ...hidden, [name]: !shown })}
              open={open}
              onRange={(range) => change(within(asked, range))}
            />
          </>
        )}
      </Body>
    </Page>
  );
}
