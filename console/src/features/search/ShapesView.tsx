import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, date, formatNs, parseNs, within, type Zone } from "../../api/time";
import { useCompact } from "../../app/compact";
import { space, type } from "../../app/tokens";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { Spark } from "../../ui/spark";
import { Table } from "../../ui/table";
import { Folded } from "./Folded";
import { textOf } from "./event";
import { followed, narrowed, type Asked } from "./asked";
import { searchAddress, type Change, type SearchState } from "./state";
import { number } from "../../ui/number";

/** Shapes shown, those looked through in the range before, and points of the trend. */
const TOP = 200;
const BEFORE = 5000;
const POINTS = 24;

const Fresh = styled.span`
  border: 1px solid ${(p) => p.theme.mark};
  color: ${(p) => p.theme.mark};
  border-radius: 3px;
  padding: 0 4px;
  font-size: ${type.small};
  margin-right: ${space.xs};
`;

const Places = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.m} ${space.xl};
  padding: ${space.s} 0 ${space.m};
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
    font-family: ${type.mono};
    font-size: ${type.small};
    font-variant-numeric: tabular-nums;
  }
  li {
    display: grid;
    grid-template-columns: 48px minmax(0, 220px);
    gap: ${space.s};
    overflow-wrap: anywhere;
  }
  li > :first-child {
    text-align: right;
  }
`;

/** Nanoseconds a double holds are good to a quarter of a microsecond here: enough for a clock. */
const ns = (value: unknown) => BigInt(Math.round(Number(value ?? 0)));

/** The events found, folded by the shape of their message. */
export function ShapesView(props: {
  state: SearchState;
  asked: Asked;
  range: { from: string; to: string };
  zone: Zone;
  change: Change;
}) {
  const { state, asked, range, zone, change } = props;
  const compact = useCompact();
  const shapes = useQuery({
    queryKey: ["shapes", asked.filter, range],
    queryFn: async ({ signal }) => {
      const length = parseNs(range.to) - parseNs(range.from);
      const step = Math.max(1, Math.ceil(Number(length) / POINTS / 1e6));
      const before = { from: formatNs(parseNs(range.from) - length), to: range.from };
      const [reported, trend, earlier] = await Promise.all([
        api.measure(
          {
            query: followed(asked, `measure count as n, min(time) as first, max(time) as last per shape top ${TOP}`),
            ...range,
          },
          signal,
        ),
        api.measure(
          { query: followed(asked, `measure count as n per shape every ${step}ms top ${TOP}`), ...range },
          signal,
        ),
        api.measure({ query: followed(asked, `measure count per shape top ${BEFORE}`), ...before }, signal),
      ]);
      const known = new Set(earlier.groups.map((g) => textOf(g.values[0])));
      // Where nothing stands in the range before, nothing is known to be new.
      const canTell = earlier.groups.length > 0;
      const rows = reported.groups
        .filter((g) => typeof g.values[0] === "string")
        .map((g) => {
          const id = String(g.values[0]);
          const steps = trend.groups.find((t) => t.values[0] === id)?.steps ?? [];
          return {
            id,
            template: reported.shapes?.[id] ?? "",
            count: Number(g.total[0] ?? 0),
            first: ns(g.total[1]),
            last: ns(g.total[2]),
            trend: steps.map((cells) => Number(cells[0] ?? 0)),
            fresh: canTell && !known.has(id),
          };
        });
      return { rows, all: reported.group_count, explain: reported.explain };
    },
  });
  const rows = shapes.data?.rows ?? [];
  const moment = (at: bigint) => <span title={`${date(at, zone)} · ${ago(at)}`}>{within(at, zone, range)}</span>;
  return (
    <Folded data-testid="shapes">
      {shapes.error && <Problem>{shapes.error.message}</Problem>}
      {shapes.isPending && <Muted>Folding …</Muted>}
      {shapes.data && (
        <Muted as="p">
          {number(shapes.data.all)} shapes
          {shapes.data.all > rows.length && `, the ${rows.length} with the most events here`} ·{" "}
          {rows.filter((r) => r.fresh).length} not seen in the range before
        </Muted>
      )}
      {rows.length > 0 && (
        <Table aria-label="Shapes">
          <thead>
            <tr>
              <th scope="col" className="number">
                events
              </th>
              <th scope="col">trend</th>
              <th scope="col" className="wide">
                first
              </th>
              <th scope="col" className="wide">
                last
              </th>
              <th scope="col">message</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id}>
                <td className="number">{number(row.count)}</td>
                <td>
                  <Spark values={row.trend} width={compact ? 48 : 96} label={`${row.count} events over time`} />
                </td>
                <td className="short wide">{moment(row.first)}</td>
                <td className="short wide">{moment(row.last)}</td>
                <td>
                  {row.fresh && <Fresh>new</Fresh>}
                  <Quiet
                    aria-expanded={state.field === row.id}
                    onPress={() => change({ field: state.field === row.id ? "" : row.id })}
                  >
                    <code>{row.template || "(empty message)"}</code>
                  </Quiet>
                  {state.field === row.id && (
                    <Opened id={row.id} asked={asked} range={range} from={state.from} to={state.to} />
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {shapes.data && rows.length === 0 && <Muted>No event in this range passes the filter.</Muted>}
    </Folded>
  );
}

/** What varies in the messages of one shape. */
function Opened(props: { id: string; asked: Asked; range: { from: string; to: string }; from: string; to: string }) {
  const { id, asked, range } = props;
  const places = useQuery({
    queryKey: ["places", id, asked.filter, range],
    queryFn: ({ signal }) => api.shape({ shape: id, query: asked.filter, ...range }, signal),
  });
  const only = `shape=${id}`;
  return (
    <div data-testid="places">
      <Link
        style={{ color: "inherit" }}
        to={searchAddress({ query: narrowed(asked, only), from: props.from, to: props.to })}
      >
        open these events
      </Link>{" "}
      ·{" "}
      <Link
        style={{ color: "inherit" }}
        to={searchAddress({
          query: narrowed(asked, `not ${only}`),
          from: props.from,
          to: props.to,
          view: "shapes",
        })}
      >
        leave them out
      </Link>
      {places.error && <Problem>{places.error.message}</Problem>}
      {places.data && places.data.places.length > 0 && (
        <>
          <p style={{ margin: "4px 0" }}>
            <Muted>What varies, in the newest {number(places.data.events)} of them:</Muted>
          </p>
          <Places>
            {places.data.places.map((place, n) => (
              <div key={n}>
                <Muted>
                  {place.before ? `after “${place.before}”` : "at the start"} · {place.distinct} values
                </Muted>
                <ol>
                  {place.top.slice(0, 6).map((v) => (
                    <li key={textOf(v.value)}>
                      <span>{v.count}</span>
                      <span>{textOf(v.value)}</span>
                    </li>
                  ))}
                </ol>
              </div>
            ))}
          </Places>
        </>
      )}
    </div>
  );
}
