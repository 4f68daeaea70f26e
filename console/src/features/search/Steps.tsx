import { scaleLinear } from "@visx/scale";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { clock, date, parseNs, type Zone } from "../../api/time";
import type { Json } from "../../api/types";
import { radius, space, type } from "../../app/tokens";
import { Button, Muted, Quiet } from "../../ui/controls";
import { Table } from "../../ui/table";
import { figure } from "./figure";
import { useDrag } from "./useDrag";

/** Height of a step's row, and width of the drawing beside them. */
const ROW = 26;
const WIDTH = 260;

export interface Group {
  name: string;
  values: Json[];
  total: Json[];
  steps?: Json[][];
  shown: boolean;
}

const Names = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs};
  margin-bottom: ${space.m};
  button {
    font-family: ${type.mono};
    font-size: ${type.small};
  }
`;

const Rows = styled(Table)`
  width: auto;
  tbody tr {
    height: ${ROW}px;
  }
  tbody td,
  tbody th {
    padding-top: 0;
    padding-bottom: 0;
    vertical-align: middle;
  }
  td.figure {
    text-align: right;
    padding-right: ${space.l};
    font-variant-numeric: tabular-nums;
    white-space: nowrap;
  }
  td.figure a {
    color: inherit;
    text-decoration: none;
  }
  td.figure a:hover {
    color: ${(p) => p.theme.accent};
  }
  td.drawing {
    padding: 0 ${space.l} 0 0;
    vertical-align: top;
    position: relative;
    border-bottom: 0;
  }
`;

const Swatch = styled.span`
  display: inline-block;
  width: 9px;
  height: 9px;
  margin-right: 4px;
`;

const Confirm = styled.div`
  position: absolute;
  left: ${space.s};
  z-index: 3;
  display: flex;
  gap: ${space.s};
  align-items: center;
  padding: ${space.s};
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.accent};
  border-radius: ${radius};
  white-space: nowrap;
`;

/** Figures step by step: lines down the page, level with the rows that tell their numbers. */
export function Steps(props: {
  steps: { from: string; to: string }[];
  groups: Group[];
  /** Which aggregate. */
  at: number;
  unit: string | undefined;
  zone: Zone;
  onShow: (name: string, shown: boolean) => void;
  open: (values: Json[], range: { from: string; to: string }) => string;
  onRange: (range: { from: string; to: string }) => void;
}) {
  const { steps, groups, at, unit, zone } = props;
  const theme = useTheme();
  const shown = groups.filter((group) => group.shown);
  const colour = (group: Group) => theme.stack[groups.indexOf(group) % theme.stack.length] ?? theme.text;
  return (
    <>
      {groups.length > 1 && (
        <Names role="group" aria-label="Groups shown">
          {groups.map((group) => (
            <Quiet
              key={group.name}
              $on={group.shown}
              aria-pressed={group.shown}
              onPress={() => props.onShow(group.name, !group.shown)}
            >
              {group.name}
            </Quiet>
          ))}
        </Names>
      )}
      <div style={{ overflowX: "auto" }}>
        <Rows aria-label="Figures by step">
          <thead>
            <tr>
              <th scope="col">from</th>
              <td />
              {shown.map((group) => (
                <th key={group.name} scope="col" className="number" style={{ paddingRight: space.l }}>
                  <Swatch style={{ background: colour(group) }} />
                  {group.name} <Muted>{figure(group.total[at] ?? null, unit)}</Muted>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {steps.map((step, n) => (
              <tr key={step.from}>
                <th scope="row" className="short" title={date(parseNs(step.from), zone)}>
                  <Quiet
                    aria-label={`Only the step from ${clock(parseNs(step.from), zone, 0)}`}
                    onPress={() => props.onRange(step)}
                  >
                    {clock(parseNs(step.from), zone, 0)}
                  </Quiet>
                </th>
                {n === 0 && (
                  <td className="drawing" rowSpan={steps.length}>
                    <Drawing
                      lines={shown.map((g) => ({
                        colour: colour(g),
                        values: (g.steps ?? []).map((c) => c[at] ?? null),
                      }))}
                      steps={steps}
                      zone={zone}
                      onRange={props.onRange}
                    />
                  </td>
                )}
                {shown.map((group) => (
                  <td key={group.name} className="figure">
                    <Link to={props.open(group.values, step)} title="open these events">
                      {figure(group.steps?.[n]?.[at] ?? null, unit)}
                    </Link>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </Rows>
      </div>
    </>
  );
}

/** One line a group, time downward; dragging over it narrows the range. */
function Drawing(props: {
  lines: { colour: string; values: Json[] }[];
  steps: { from: string; to: string }[];
  zone: Zone;
  onRange: (range: { from: string; to: string }) => void;
}) {
  const { lines, steps, zone } = props;
  const theme = useTheme();
  const { drag, begin, move, end, leave } = useDrag(1);
  const number = (value: Json) => (typeof value === "number" ? value : undefined);
  const all = lines.flatMap((line) => line.values.map((v) => number(v) ?? 0));
  const across = scaleLinear<number>({ domain: [Math.min(0, ...all), Math.max(1e-9, ...all)], range: [2, WIDTH - 4] });
  const height = steps.length * ROW;
  const stepAt = (e: React.PointerEvent) => {
    const top = e.currentTarget.getBoundingClientRect().top;
    return Math.min(Math.max(Math.floor((e.clientY - top) / ROW), 0), steps.length - 1);
  };
  const [a, b] = drag ? [Math.min(drag.from, drag.to), Math.max(drag.from, drag.to)] : [0, 0];
  const [first, last] = [steps[a], steps[b]];
  return (
    <>
      <svg
        width={WIDTH}
        height={height}
        role="img"
        aria-label="The figures as lines down the page; the table beside shows them"
        style={{ display: "block", touchAction: "none" }}
        onPointerDown={(e) => begin(e, stepAt(e))}
        onPointerMove={(e) => move(stepAt(e))}
        onPointerUp={end}
      >
        {drag && <rect x={0} y={a * ROW} width={WIDTH} height={(b - a + 1) * ROW} fill={theme.accent} opacity={0.2} />}
        {lines.map((line, n) => {
          // A step without a figure is a gap, not a zero.
          let pen = "M";
          const path = line.values
            .map((value, at) => {
              const x = number(value);
              if (x === undefined) {
                pen = "M";
                return "";
              }
              const part = `${pen}${across(x).toFixed(1)} ${at * ROW + ROW / 2}`;
              pen = "L";
              return part;
            })
            .join("");
          return (
            <g key={n}>
              <path d={path} fill="none" stroke={line.colour} strokeWidth={1.5} />
              {line.values.map((value, at) => {
                const x = number(value);
                return (
                  x !== undefined && <circle key={at} cx={across(x)} cy={at * ROW + ROW / 2} r={2} fill={line.colour} />
                );
              })}
            </g>
          );
        })}
      </svg>
      {drag?.done && first && last && (
        <Confirm style={{ top: Math.max(a * ROW, 0) }}>
          {clock(parseNs(first.from), zone, 0)} to {clock(parseNs(last.to), zone, 0)}
          <Button
            $chief
            autoFocus
            onPress={() => {
              leave();
              props.onRange({ from: first.from, to: last.to });
            }}
          >
            Only this
          </Button>
          <Button onPress={leave}>Leave</Button>
        </Confirm>
      )}
    </>
  );
}
