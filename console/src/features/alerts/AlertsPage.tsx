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
import { difference, evidence, raisedFor } from "./model";

const State = styled.span<{ $state: string }>`
  color: ${(p) =>
    p.$state === "raised" ? p.theme.severity.error : p.$state === "quiet" ? p.theme.muted : p.theme.severity.warn};
  font-weight: 650;
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
        <Table aria-label="Alerts">
          <thead>
            <tr>
              <th scope="col">rule</th>
              <th scope="col">state</th>
              <th scope="col">raised</th>
              <th scope="col">for</th>
              <th scope="col">peak</th>
              <th scope="col">taken by</th>
              <th scope="col">notified</th>
              <th scope="col">evidence</th>
            </tr>
          </thead>
          <tbody>
            {alerts.data.map((a) => {
              return (
                <tr key={a.id}>
                  <td>{a.rule}</td>
                  <td>
                    <State $state={a.ended ? "quiet" : "raised"}>{a.ended ? "quiet again" : "raised"}</State>
                  </td>
                  <td>
                    {when(a.raised, zone)} <Muted>{a.late ? "seen late" : ago(parseNs(a.raised))}</Muted>
                  </td>
                  <td>{span(raisedFor(a, Date.now()))}</td>
                  <td>
                    {a.peak} <Muted>above {a.above}</Muted>
                  </td>
                  <td>{a.taken_by ?? <Quiet onPress={() => void take(a.id)}>take it, {me?.name}</Quiet>}</td>
                  <td>
                    {a.notified.map((n) => (
                      <div key={`${n.kind} ${n.what}`}>
                        {n.kind} <Muted>{n.state}</Muted>
                      </div>
                    ))}
                  </td>
                  <td>
                    <Link to={evidence(a)}>its events</Link> <Link to={difference(a)}>what is different?</Link>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </Table>
      )}
      <h1>Rules</h1>
      {rules.data?.length === 0 && <Muted>No rule yet; `calvex rule new` makes one.</Muted>}
      {rules.data && rules.data.length > 0 && (
        <Table aria-label="Rules">
          <thead>
            <tr>
              <th scope="col">rule</th>
              <th scope="col">state</th>
              <th scope="col">count now</th>
              <th scope="col">query</th>
              <th scope="col">judged</th>
            </tr>
          </thead>
          <tbody>
            {rules.data.map((r) => (
              <tr key={r.id}>
                <td>{r.name}</td>
                <td>
                  <State $state={r.state}>{r.state}</State> <Muted>{r.note}</Muted>
                </td>
                <td>
                  {r.count}{" "}
                  <Muted>
                    in {span(r.window_s)}, raised above {r.above}
                    {r.hold_s > 0 && ` for ${span(r.hold_s)}`}
                  </Muted>
                </td>
                <td>
                  <Link to={`/search?q=${encodeURIComponent(r.query)}`}>
                    <Mono>{r.query || "every event"}</Mono>
                  </Link>
                </td>
                <td>
                  <Muted>{r.judged ? ago(parseNs(r.judged)) : "not yet"}</Muted>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <Muted>
        same in the terminal: <Mono>calvex alerts</Mono>, <Mono>calvex rule list</Mono>
      </Muted>
    </Page>
  );
}
