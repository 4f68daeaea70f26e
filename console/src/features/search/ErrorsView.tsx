import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, date, parseNs, within, type Zone } from "../../api/time";
import type { ErrorGroup } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Button, Choice, Field, Muted, Problem, Quiet } from "../../ui/controls";
import { number } from "../../ui/number";
import { Spark } from "../../ui/spark";
import { Table } from "../../ui/table";
import { narrowed, type Asked } from "./asked";
import { Folded } from "./Folded";
import { counted, STATES, whatFailed } from "./errors.model";
import { searchAddress, type Change, type SearchState } from "./state";

/** Groups shown. */
const TOP = 200;

const Head = styled.div`
  display: flex;
  align-items: baseline;
  justify-content: space-between;
  flex-wrap: wrap;
  gap: ${space.m};
  padding: ${space.xs} 0;
`;

const State = styled.span<{ $loud: boolean }>`
  border: 1px solid ${(p) => (p.$loud ? p.theme.mark : p.theme.line)};
  color: ${(p) => (p.$loud ? p.theme.mark : p.theme.muted)};
  border-radius: 3px;
  padding: 0 4px;
  font-size: ${type.small};
  white-space: nowrap;
`;

const Opened = styled.div`
  display: grid;
  gap: ${space.s};
  padding: ${space.s} 0 ${space.m};
  ol {
    margin: 0;
    padding-left: ${space.l};
    font-family: ${type.mono};
    font-size: ${type.small};
    overflow-wrap: anywhere;
  }
  a {
    color: inherit;
  }
`;

const Ways = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: ${space.s} ${space.m};
`;

/** The failures found, folded into problems. */
export function ErrorsView(props: {
  state: SearchState;
  asked: Asked;
  range: { from: string; to: string };
  zone: Zone;
  change: Change;
}) {
  const { state, asked, range, zone, change } = props;
  const [only, setOnly] = useState("");
  const errors = useQuery({
    queryKey: ["errors", asked.filter, range],
    queryFn: ({ signal }) => api.errors({ query: asked.filter, ...range, top: TOP }, signal),
  });
  const all = errors.data?.groups ?? [];
  const groups = all.filter((group) => !only || group.state === only);
  const moment = (text: string) => {
    const at = parseNs(text);
    return <span title={`${date(at, zone)} · ${ago(at)}`}>{within(at, zone, range)}</span>;
  };
  return (
    <Folded data-testid="errors">
      {errors.error && <Problem>{errors.error.message}</Problem>}
      {errors.isPending && <Muted>Folding …</Muted>}
      {errors.data && all.length > 0 && (
        <Head>
          <Muted as="p" style={{ margin: 0 }}>
            {number(errors.data.failures)} failures in {counted(errors.data.group_count, "group")}
            {errors.data.group_count > all.length && `, the ${all.length} with the most here`}
            {errors.data.uncounted > 0 && ` · ${number(errors.data.uncounted)} beyond the groups that are counted`}
          </Muted>
          <Choice label="state" value={only} options={STATES} onChange={setOnly} />
        </Head>
      )}
      {groups.length > 0 && (
        <Table aria-label="Error groups">
          <thead>
            <tr>
              <th scope="col" className="number">
                failures
              </th>
              <th scope="col">state</th>
              <th scope="col" className="wide">
                trend
              </th>
              <th scope="col" className="wide">
                since
              </th>
              <th scope="col" className="wide">
                last
              </th>
              <th scope="col">what failed</th>
            </tr>
          </thead>
          <tbody>
            {groups.map((group) => (
              <tr key={group.id}>
                <td className="number">{number(group.count)}</td>
                <td>
                  <State $loud={group.state === "new" || group.state === "returned"}>{group.state}</State>
                </td>
                <td className="wide">
                  <Spark values={group.trend} width={96} label={`${group.count} failures over time`} />
                </td>
                <td className="short wide">{moment(group.since)}</td>
                <td className="short wide">{moment(group.last)}</td>
                <td>
                  <Quiet
                    aria-expanded={state.field === group.id}
                    onPress={() => change({ field: state.field === group.id ? "" : group.id })}
                  >
                    <strong>{group.service || "no service"}</strong> {group.error && <code>{group.error}</code>}{" "}
                    <code>{group.message}</code>
                    {group.frames?.[0] && (
                      <>
                        {" "}
                        <Muted>at {group.frames[0]}</Muted>
                      </>
                    )}
                  </Quiet>
                  {state.field === group.id && <Details group={group} asked={asked} range={range} state={state} />}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {errors.data && groups.length === 0 && (
        <Muted as="p">
          {all.length > 0
            ? `No group here is ${only}.`
            : "Nothing failed in this range: no event of severity error passes."}
        </Muted>
      )}
    </Folded>
  );
}

/** One group: where it failed, what was said about it, and where to go on. */
function Details(props: { group: ErrorGroup; asked: Asked; range: { from: string; to: string }; state: SearchState }) {
  const { group, asked, state } = props;
  const client = useQueryClient();
  const [release, setRelease] = useState("");
  const say = useMutation({
    mutationFn: (said: string) =>
      api.sayOfError(group.id, {
        state: said,
        release: said === "resolved" && release ? release : undefined,
        note: "",
      }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["errors"] }),
  });
  const only = `error_group=${group.id}`;
  const { from, to } = state;
  return (
    <Opened data-testid="error-group">
      <Muted as="p" style={{ margin: 0 }}>
        {whatFailed(group)}
      </Muted>
      {group.frames && group.frames.length > 0 && (
        <ol aria-label="Frames, innermost first">
          {group.frames.map((frame, n) => (
            <li key={n}>{frame}</li>
          ))}
        </ol>
      )}
      {group.said && (
        <Muted>
          {group.state === "returned" ? "resolved" : group.state} by {group.said.by}, {ago(parseNs(group.said.at))}
          {group.said.release && ` in release ${group.said.release}`}
          {group.said.note && ` · ${group.said.note}`}
        </Muted>
      )}
      <Ways>
        {group.example.trace && <Link to={`/story/${group.example.trace}`}>open a story</Link>}
        <Link to={searchAddress({ query: narrowed(asked, only), from, to })}>open these events</Link>
        <Link to={searchAddress({ query: narrowed(asked, `not ${only}`), from, to, view: "errors" })}>
          leave them out
        </Link>
      </Ways>
      <Ways>
        {group.state !== "known" && <Button onPress={() => say.mutate("known")}>I know of it</Button>}
        {group.state !== "resolved" && <Button onPress={() => say.mutate("resolved")}>it is resolved</Button>}
        {group.state !== "resolved" && (
          <Field label="in release" name="release" value={release} onChange={setRelease} optional mono />
        )}
        {group.state !== "new" && <Button onPress={() => say.mutate("new")}>take that back</Button>}
      </Ways>
      {say.error && <Problem>{say.error.message}</Problem>}
    </Opened>
  );
}
