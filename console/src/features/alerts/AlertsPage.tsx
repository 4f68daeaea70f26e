import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Navigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, moment, parseNs, span } from "../../api/time";
import { useMe } from "../../app/session";
import { useZone } from "../../app/zone";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Around } from "./Around";
import { figure } from "../rules/model";
import { difference, evidence, groupsOf, named, raisedFor, stateOf } from "./model";

const State = styled.span<{ $state: string }>`
  color: ${(p) => (p.$state === "raised" ? p.theme.severity.error : p.theme.muted)};
  font-weight: 650;
`;

/** The cells of an alert are of different heights: each begins at the top. */
const Tall = styled(Table)`
  td {
    vertical-align: top;
  }
  td button,
  td > span:first-child {
    white-space: nowrap;
  }
  td button {
    padding: 0;
    min-height: 0;
  }
`;

const Groups = styled.div`
  color: ${(p) => p.theme.muted};
  max-width: 360px;
  overflow-wrap: anywhere;
`;

const Links = styled.div`
  white-space: nowrap;
`;

/** What was raised: what still is comes first. */
export default function AlertsPage() {
  const { zone } = useZone();
  const me = useMe();
  const queries = useQueryClient();
  const [params] = useSearchParams();
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: ({ signal }) => api.alerts(signal), refetchInterval: 5000 });
  const take = async (id: number) => {
    await api.take(id);
    await queries.invalidateQueries({ queryKey: ["alerts"] });
  };
  const meant = named(alerts.data ?? [], params.get("rule"), params.get("raised"));
  if (meant) return <Navigate to={`/alerts/${meant.id}`} replace />;
  return (
    <Page>
      {alerts.error && <Problem>{alerts.error.message}</Problem>}
      <h1>Alerts</h1>
      <Around here="/alerts" />
      {alerts.data?.length === 0 && <Muted>Nothing was raised yet.</Muted>}
      {alerts.data && alerts.data.length > 0 && (
        <div className="wide">
          <Tall aria-label="Alerts">
            <thead>
              <tr>
                <th scope="col">alert</th>
                <th scope="col">state</th>
                <th scope="col">raised</th>
                <th scope="col">for</th>
                <th scope="col">value</th>
                <th scope="col">taken by</th>
                <th scope="col">what is different</th>
                <th scope="col">evidence</th>
              </tr>
            </thead>
            <tbody>
              {alerts.data.map((a) => (
                <tr key={a.id}>
                  <td>
                    <Link to={`/alerts/${a.id}`}>{a.rule}</Link>
                    {a.urgency === "ticket" && <Muted> ticket</Muted>}
                  </td>
                  <td>
                    <State $state={a.ended ? "quiet" : "raised"}>{stateOf(a)}</State>
                    {a.muted && <Muted> muted</Muted>}
                  </td>
                  <td>
                    {moment(a.raised, zone)} <Muted>{a.late ? "seen late" : ago(parseNs(a.raised))}</Muted>
                  </td>
                  <td className="short">{span(raisedFor(a, Date.now()))}</td>
                  <td>
                    {figure(a.peak, a.unit)}{" "}
                    <Muted>
                      {a.unit} {a.bound.side} {figure(a.bound.number, a.unit)}
                    </Muted>
                    {groupsOf(a) && <Groups>{groupsOf(a)}</Groups>}
                  </td>
                  <td>
                    {a.taken_by ??
                      (a.ended ? (
                        <Muted>nobody</Muted>
                      ) : (
                        <Quiet onPress={() => void take(a.id)}>take it, {me?.name}</Quiet>
                      ))}
                  </td>
                  <td>
                    {a.explanation?.headline}
                    {a.explanation?.lines[0] && (
                      <Groups>
                        <Mono>{a.explanation.lines[0].what}</Mono> {a.explanation.lines[0].baseline} →{" "}
                        {a.explanation.lines[0].current}
                      </Groups>
                    )}
                  </td>
                  <td>
                    <Links>
                      <Link to={evidence(a)}>its events</Link> <Link to={difference(a)}>what is different?</Link>
                      {a.explanation?.story && (
                        <>
                          {" "}
                          <Link to={`/story/${a.explanation.story}`}>one story</Link>
                        </>
                      )}
                    </Links>
                  </td>
                </tr>
              ))}
            </tbody>
          </Tall>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex alerts</Mono>
      </Muted>
    </Page>
  );
}
