import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import { parseNs } from "../../api/time";
import type { BreakdownAnswer, Json, Spread } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { Spark } from "../../ui/spark";
import { textOf } from "./event";
import { figure } from "./figure";
import { followed, type Asked } from "./asked";
import { literal } from "./state";
import { number } from "../../ui/number";

/** Values shown, and points of their strips. */
const TOP = 10;
const POINTS = 24;

const Body = styled.div`
  padding: 2px 0 ${space.m} ${space.s};
  border-left: 2px solid ${(p) => p.theme.line};
  margin-bottom: ${space.s};
`;

const Line = styled.label`
  display: grid;
  grid-template-columns: 16px minmax(0, 1fr) 64px 40px 60px;
  gap: ${space.xs};
  align-items: center;
  font-size: ${type.small};
  font-variant-numeric: tabular-nums;
  cursor: pointer;
  min-height: 22px;
  .value {
    font-family: ${type.mono};
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .count {
    text-align: right;
  }
  input {
    margin: 0;
  }
`;

const Spreads = styled.dl`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.m};
  margin: ${space.xs} 0;
  font-size: ${type.small};
  font-variant-numeric: tabular-nums;
  div {
    display: flex;
    gap: ${space.xs};
  }
  dt {
    color: ${(p) => p.theme.muted};
  }
  dd {
    margin: 0;
  }
`;

const written = (value: Json) => (typeof value === "string" ? literal(value) : JSON.stringify(value));

/** The top values of a field, each with its share and a strip of time; numbers with how they are spread. */
export function FieldFigures(props: {
  field: string;
  asked: Asked;
  range: { from: string; to: string };
  by: string;
  onStack: (field: string) => void;
  onNarrow: (condition: string) => void;
  onColumn: (field: string) => void;
}) {
  const { field, asked, range, by } = props;
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const counted = useQuery({
    queryKey: ["breakdown", field, asked.filter, range],
    queryFn: ({ signal }) => api.breakdown({ query: asked.filter, ...range, fields: [field], top: TOP }, signal),
    placeholderData: keepPreviousData,
  });
  const strips = useQuery({
    queryKey: ["strips", field, asked.filter, range],
    queryFn: ({ signal }) => {
      const step = Math.max(Number(parseNs(range.to) - parseNs(range.from)) / POINTS / 1e6, 1);
      const clause = `measure count per ${field} every ${Math.ceil(step)}ms top ${TOP}`;
      return api.measure({ query: followed(asked, clause), ...range }, signal);
    },
  });
  const answer: BreakdownAnswer | undefined = counted.data;
  const reported = answer?.fields[0];
  const stripOf = (value: Json) => {
    const group = strips.data?.groups.find((g) => JSON.stringify(g.values[0]) === JSON.stringify(value));
    return group?.steps?.map((cells) => Number(cells[0] ?? 0)) ?? [];
  };
  const toggle = (text: string) => {
    const next = new Set(picked);
    if (!next.delete(text)) next.add(text);
    setPicked(next);
  };
  const all = [...picked];
  const condition = all.length === 1 ? `${field}=${all[0]}` : `${field} in (${all.join(", ")})`;
  const unit = field === "took" ? "ns" : undefined;
  return (
    <Body data-testid="breakdown">
      {counted.error && <Problem>{counted.error.message}</Problem>}
      {counted.isPending && <Muted>Counting …</Muted>}
      {reported && answer && (
        <>
          <Muted>
            {number(reported.having)} of {number(answer.events)} events · {number(reported.distinct)} values
            {reported.uncounted > 0 && ` · ${number(reported.uncounted)} events have values beyond those counted`}
          </Muted>
          {reported.spread && <SpreadFigure spread={reported.spread} unit={unit} />}
          {reported.top.map((v) => {
            const text = written(v.value);
            const share = v.count / Math.max(answer.events, 1);
            return (
              <Line key={text}>
                <input
                  type="checkbox"
                  aria-label={`Pick ${text}`}
                  checked={picked.has(text)}
                  onChange={() => toggle(text)}
                />
                <span className="value" title={v.template ?? textOf(v.value)}>
                  {v.template ?? (unit ? figure(v.value, unit) : textOf(v.value)) ?? ""}
                </span>
                <span className="count">{number(v.count)}</span>
                <Muted className="count">{(share * 100).toFixed(share < 0.1 ? 1 : 0)} %</Muted>
                <Spark values={stripOf(v.value)} width={58} height={14} label={`${text} over time`} />
              </Line>
            );
          })}
          <div>
            <Quiet isDisabled={all.length === 0} onPress={() => props.onNarrow(condition)}>
              keep only
            </Quiet>
            <Quiet isDisabled={all.length === 0} onPress={() => props.onNarrow(`not ${condition}`)}>
              leave out
            </Quiet>
            <Quiet onPress={() => props.onColumn(field)}>column</Quiet>
            {reported.distinct <= 200 && (
              <Quiet
                $on={by === field}
                aria-pressed={by === field}
                onPress={() => props.onStack(by === field ? "" : field)}
              >
                stack the spine
              </Quiet>
            )}
            <Quiet onPress={() => props.onNarrow(`has ${field}`)}>has it</Quiet>
          </div>
        </>
      )}
    </Body>
  );
}

/** How the numbers are spread: bars from the least to the greatest, and percentiles. */
function SpreadFigure({ spread, unit }: { spread: Spread; unit: string | undefined }) {
  const shown = (n: number) => figure(n, unit);
  const step = spread.counts.length;
  const at = (n: number) =>
    spread.by_factor
      ? spread.min * (spread.max / spread.min) ** (n / step)
      : spread.min + ((spread.max - spread.min) * n) / step;
  const label = spread.counts.map((count, n) => `${shown(at(n))} to ${shown(at(n + 1))}: ${count}`).join("; ");
  return (
    <div data-testid="spread">
      <Spark values={spread.counts} width={320} height={44} label={`How the numbers are spread: ${label}`} />
      <Spreads>
        <div>
          <dt>least</dt>
          <dd>{shown(spread.min)}</dd>
        </div>
        {spread.percentiles.map(([percent, value]) => (
          <div key={percent}>
            <dt>p{percent}</dt>
            <dd>{shown(value)}</dd>
          </div>
        ))}
        <div>
          <dt>greatest</dt>
          <dd>{shown(spread.max)}</dd>
        </div>
        {spread.by_factor && <Muted>bars grow by a factor</Muted>}
      </Spreads>
    </div>
  );
}
