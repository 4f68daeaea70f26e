import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, clock, date, parseNs, type Zone } from "../../api/time";
import type { NowAnswer } from "../../api/types";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Spark } from "../../ui/spark";
import { Table } from "../../ui/table";
import { differenceOfService } from "../compare/model";
import { literal, searchAddress } from "../search/state";
import { number } from "../../ui/number";
import { around, rate, share, tail, usual } from "./model";

/** How often it is looked anew. */
const AGAIN_MS = 15_000;

const Columns = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: ${space.xl};
  h2 {
    font-size: 16px;
    margin: 0 0 ${space.s};
  }
  ul {
    list-style: none;
    margin: 0 0 ${space.xl};
    padding: 0;
  }
  li {
    padding: 4px 0;
    border-bottom: 1px solid ${(p) => p.theme.line};
    overflow-wrap: anywhere;
  }
  a {
    color: ${(p) => p.theme.accent};
  }
  td:last-child {
    min-width: 190px;
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Raised = styled.strong`
  color: ${(p) => p.theme.severity.error};
`;

const Stray = styled.span`
  color: ${(p) => p.theme.severity.warn};
`;

/** Where a shift begins: what is raised, and which services are not as they usually are. */
export default function NowPage() {
  const { zone } = useZone();
  const now = useQuery({ queryKey: ["now"], queryFn: ({ signal }) => api.now(signal), refetchInterval: AGAIN_MS });
  const answer = now.data;
  return (
    <Page>
      <h1>Now</h1>
      {now.error && (
        <Problem>
          {now.error.message} <Quiet onPress={() => void now.refetch()}>Try again</Quiet>
        </Problem>
      )}
      {now.isPending && <Muted>Looking at the last week’s same hours …</Muted>}
      {answer?.left_out.map((loss) => (
        <Problem key={loss}>Not all could be read: {loss}</Problem>
      ))}
      {answer && (
        <Columns>
          <Services answer={answer} />
          <Moments answer={answer} zone={zone} />
        </Columns>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex now</Mono>
      </Muted>
    </Page>
  );
}

function Services({ answer }: { answer: NowAnswer }) {
  const minutes = answer.window_s / 60;
  return (
    <section aria-label="Services">
      <h2>Services</h2>
      <Muted as="p">
        Over the last {minutes} minutes, and beside it the usual: {answer.usual_of}.
      </Muted>
      {answer.services.length === 0 && <p>No service sent anything in the last {minutes} minutes.</p>}
      {answer.services.length > 0 && (
        <div className="wide">
          <Table aria-label="Services now">
            <thead>
              <tr>
                <th scope="col">service</th>
                <th scope="col">last hour</th>
                <th scope="col" className="number">
                  rate · usual
                </th>
                <th scope="col" className="number">
                  errors · usual
                </th>
                <th scope="col" className="number">
                  p95 · usual
                </th>
                <th scope="col">strays</th>
              </tr>
            </thead>
            <tbody>
              {answer.services.map((s) => {
                const query = `service=${literal(s.service)}`;
                return (
                  <tr key={s.service}>
                    <td>
                      <Link to={searchAddress({ query })}>{s.service}</Link>
                    </td>
                    <td>
                      <Spark
                        values={s.trend}
                        bad={s.errors}
                        label={`events in each five minutes of the last hour: ${s.trend.join(", ")}`}
                      />
                    </td>
                    <td className="number">
                      {rate(s.now)}
                      <Muted> {usual(rate, s.usual)}</Muted>
                    </td>
                    <td className="number">
                      <Link to={searchAddress({ query: `${query} severity>=error` })}>{share(s.now)}</Link>
                      <Muted> {usual(share, s.usual)}</Muted>
                    </td>
                    <td className="number">
                      {tail(s.now)}
                      <Muted> {usual(tail, s.usual)}</Muted>
                    </td>
                    <td>
                      {s.strays.length === 0 && s.usual && <Muted>as usual</Muted>}
                      {!s.usual && <Muted>no usual yet</Muted>}
                      <Stray>{s.strays.join(" · ")}</Stray>{" "}
                      <Link to={differenceOfService(s.service)} aria-label={`compare ${s.service} with a day earlier`}>
                        compare
                      </Link>
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        </div>
      )}
    </section>
  );
}

function Moments({ answer, zone }: { answer: NowAnswer; zone: Zone }) {
  const when = (at: string) => (
    <Muted title={date(parseNs(at), zone)}>
      {clock(parseNs(at), zone, 0)} · {ago(parseNs(at))}
    </Muted>
  );
  return (
    <div>
      <section aria-label="Alerts">
        <h2>Alerts</h2>
        {answer.alerts.length + answer.building.length === 0 && (
          <Muted as="p">Nothing is raised, nothing building.</Muted>
        )}
        <ul>
          {answer.alerts.map((a) => (
            <li key={a.id}>
              <Raised>raised</Raised> <Link to={`/alerts/${a.id}`}>{a.rule}</Link>{" "}
              {a.taken_by && <Muted>taken by {a.taken_by}</Muted>}
              <br />
              {when(a.raised)}
            </li>
          ))}
          {answer.building.map((name) => (
            <li key={name}>
              <Stray>building</Stray> <Link to={`/rules/${encodeURIComponent(name)}`}>{name}</Link>
            </li>
          ))}
        </ul>
      </section>
      <section aria-label="Marks">
        <h2>Marks of the last day</h2>
        {answer.marks.length === 0 && <Muted as="p">None: no event of the last day has the field “mark”.</Muted>}
        <ul>
          {answer.marks.map((m) => (
            <li key={m.id}>
              <Link to={around(m.at, "")}>{m.what}</Link>
              <br />
              {when(m.at)}
            </li>
          ))}
        </ul>
      </section>
      <section aria-label="Silent and refused">
        <h2>Silent and refused</h2>
        {answer.silent.length + answer.refused.length === 0 && (
          <Muted as="p">Every service of the last day still sends, and nothing was refused in the last hour.</Muted>
        )}
        <ul>
          {answer.silent.map((s) => (
            <li key={s.service}>
              <Link to={around(s.last, `service=${literal(s.service)}`)}>{s.service}</Link> is silent
              <br />
              {when(s.last)}
            </li>
          ))}
          {answer.refused.map((r) => (
            <li key={`${r.sender} ${r.reason}`}>
              <Link to="/intake">{r.sender}</Link>: {number(r.refused)} refused, {r.reason}
              <br />
              {when(r.last)}
            </li>
          ))}
        </ul>
      </section>
    </div>
  );
}
