import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, clock, date, parseNs, span, type Zone } from "../../api/time";
import { useMe } from "../../app/session";

import { useZone } from "../../app/zone";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { figure } from "../rules/model";
import { difference, evidence, groupsOf, raisedFor, stateOf } from "./model";

const State = styled.span<{ $state: string }>`
  color: ${(p) =>
    p.$state === "raised" ? p.theme.severity.error : p.$state === "quiet" ? p.theme.muted : p.theme.severity.warn};
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

const Sentence = styled.div`
  max-width: 560px;
  overflow-wrap: anywhere;
`;

const when = (text: string, zone: Zone) => `${date(parseNs(text), zone)} ${clock(parseNs(text), zone, 0)}`;

/** What was raised, and the rules with their states. */
export default function AlertsPage() {
  const { zone } = useZone();
  const me = useMe();
  const queries = useQueryClient();
  const alerts = useQuery({ queryKey: ["alerts"], queryFn: ({ signal }) => api.alerts(signal), refetchInterval: 5000 });
  const rules = useQuery({ queryKey: ["rules"], queryFn: ({ signal }) => api.rules(signal), refetchInterval: 5000 });
  const take = async (id: number) => {
    await api.take(id);
    await queries.invalidateQueries({ queryKey: ["alerts"] });
  };
  const error = alerts.error ?? rules.error;
  return (
    <Page>
      {error && <Problem>{error.message}</Problem>}
      <h1>Alerts</h1>
      {alerts.data?.length === 0 && <Muted>Nothing was raised yet.</Muted>}
      {alerts.data && alerts.data.length > 0 && (
        <div className="wide">
          <Tall aria-label="Alerts">
            <thead>
              <tr>
                <th scope="col">rule</th>
                <th scope="col">state</th>
                <th scope="col">raised</th>
                <th scope="col">for</th>
                <th scope="col">value</th>
                <th scope="col">taken by</th>
                <th scope="col">notified</th>
                <th scope="col">evidence</th>
              </tr>
            </thead>
            <tbody>
              {alerts.data.map((a) => (
                <tr key={a.id}>
                  <td>
                    <Link to={`/rules/${encodeURIComponent(a.rule)}`}>{a.rule}</Link>
                    {a.urgency === "ticket" && <Muted> ticket</Muted>}
                  </td>
                  <td>
                    <State $state={a.ended ? "quiet" : "raised"}>{stateOf(a)}</State>
                    {a.muted && <Muted> muted</Muted>}
                  </td>
                  <td>
                    {when(a.raised, zone)} <Muted>{a.late ? "seen late" : ago(parseNs(a.raised))}</Muted>
                  </td>
                  <td>{span(raisedFor(a, Date.now()))}</td>
                  <td>
                    {figure(a.peak, a.unit)}{" "}
                    <Muted>
                      {a.unit} {a.bound.side} {figure(a.bound.number, a.unit)}
                    </Muted>
                    {groupsOf(a) && <Groups>{groupsOf(a)}</Groups>}
                  </td>
                  <td>{a.taken_by ?? <Quiet onPress={() => void take(a.id)}>take it, {me?.name}</Quiet>}</td>
                  <td>
                    {a.notified.map((n) => (
                      <div key={`${n.kind} ${n.what} ${n.target}`}>
                        {n.kind} {n.what} <Muted>{n.state}</Muted>
                      </div>
                    ))}
                  </td>
                  <td>
                    <Link to={evidence(a)}>its events</Link> <Link to={difference(a)}>what is different?</Link>
                    {a.explanation?.story && (
                      <>
                        {" "}
                        <Link to={`/story/${a.explanation.story}`}>one story</Link>
                      </>
                    )}
                    {a.explanation && (
                      <details>
                        <summary>{a.explanation.headline}</summary>
                        <ul>
                          {a.explanation.lines.map((line) => (
                            <li key={line.what}>
                              <Mono>{line.what}</Mono>{" "}
                              <Muted>
                                {line.baseline} → {line.current}
                              </Muted>
                            </li>
                          ))}
                          {a.explanation.marks.map((mark) => (
                            <li key={mark}>{mark}</li>
                          ))}
                        </ul>
                      </details>
                    )}
                    {a.note && <Groups>{a.note}</Groups>}
                    {a.runbook && <a href={a.runbook}>runbook</a>}
                  </td>
                </tr>
              ))}
            </tbody>
          </Tall>
        </div>
      )}
      <h1>Rules</h1>
      {rules.data?.length === 0 && <Muted>No rule yet; `calvex rule apply` makes one of a document.</Muted>}
      {rules.data && rules.data.length > 0 && (
        <div className="wide">
          <Table aria-label="Rules">
            <thead>
              <tr>
                <th scope="col">rule</th>
                <th scope="col">state</th>
                <th scope="col" className="number">
                  value
                </th>
                <th scope="col">raised</th>
                <th scope="col">judged</th>
              </tr>
            </thead>
            <tbody>
              {rules.data.map((r) => (
                <tr key={r.id}>
                  <td>
                    <Link to={`/rules/${encodeURIComponent(r.name)}`}>{r.name}</Link>
                  </td>
                  <td>
                    <State $state={r.state}>{r.state}</State> <Muted>{r.note}</Muted>
                    {r.muted && (
                      <Groups>
                        muted until {when(r.muted.until, zone)} by {r.muted.by}: {r.muted.why}
                      </Groups>
                    )}
                    {r.groups.length > 0 && r.groups[0]?.name !== "" && (
                      <Groups>{r.groups.map((group) => group.name).join(", ")}</Groups>
                    )}
                  </td>
                  <td className="number">{figure(r.value, r.unit)}</td>
                  <td>
                    <Sentence>{r.sentence}</Sentence>
                  </td>
                  <td>
                    <Muted>{r.judged ? ago(parseNs(r.judged)) : "not yet"}</Muted>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {me?.role === "admin" && (
        <p>
          <Link to="/rules/new" style={{ color: "inherit" }}>
            Make a rule
          </Link>
        </p>
      )}
      <Muted>
        same in the terminal: <Mono>calvex alerts</Mono>, <Mono>calvex rule list</Mono>
      </Muted>
    </Page>
  );
}
