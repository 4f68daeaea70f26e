import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import styled, { useTheme } from "styled-components";
import { api } from "../../api/client";
import { ago, moment, parseNs, span } from "../../api/time";
import { useMe } from "../../app/session";
import type { Alert, AlertInFull } from "../../api/types";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Button, LinesField, Mono, Muted, Problem } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Spark } from "../../ui/spark";
import { Table } from "../../ui/table";
import { figure } from "../rules/model";
import { MuteForm } from "../rules/MuteForm";
import { difference, eventsOf, evidence, raisedFor, stateOf } from "./model";
import { Tries } from "./Tries";

const Head = styled.header`
  margin-bottom: ${space.l};
  h1 {
    margin-bottom: ${space.xs};
  }
  p {
    margin: 0 0 ${space.s};
    max-width: 760px;
    overflow-wrap: anywhere;
  }
`;

const Columns = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(280px, 2fr);
  gap: ${space.xl};
  align-items: start;
  h2 {
    font-size: ${type.body};
    margin: 0 0 ${space.s};
  }
  section {
    margin-bottom: ${space.xl};
  }
  a {
    color: ${(p) => p.theme.accent};
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const State = styled.strong<{ $raised: boolean }>`
  color: ${(p) => (p.$raised ? p.theme.severity.error : p.theme.muted)};
`;

const Lines = styled.table`
  border-collapse: collapse;
  td {
    padding: 3px ${space.m} 3px 0;
    vertical-align: top;
    overflow-wrap: anywhere;
  }
  td:first-child {
    white-space: nowrap;
    color: ${(p) => p.theme.muted};
  }
`;

const Noted = styled.ul`
  list-style: none;
  margin: 0 0 ${space.m};
  padding: 0;
  li {
    margin-bottom: ${space.s};
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
`;

/** The values of the last hours before the alert, those beyond the bound in red. */
function Before({ alert }: { alert: Alert }) {
  const theme = useTheme();
  const strip = alert.explanation?.strip;
  if (!strip) return null;
  const values = strip.values.map((value) => Math.abs(value ?? 0));
  const beyond = (value: number | null) =>
    value !== null && (strip.bound.side === "below" ? value < strip.bound.number : value > strip.bound.number);
  const bad = strip.values.map((value, n) => (beyond(value) ? (values[n] ?? 0) : 0));
  const hours = Math.round((strip.values.length * strip.step_s) / 360) / 10;
  return (
    <section aria-label="Before">
      <h2>
        The {hours} hours before{" "}
        <Muted>
          {alert.unit}, bound {figure(strip.bound.number, alert.unit)}
        </Muted>
      </h2>
      <div style={{ borderBottom: `1px solid ${theme.line}` }}>
        <Spark
          values={values}
          bad={bad}
          least={Math.abs(strip.bound.number)}
          width={480}
          height={64}
          label={`the values of the ${hours} hours before it was raised`}
        />
      </div>
    </section>
  );
}

function Why({ alert }: { alert: Alert }) {
  const why = alert.explanation;
  if (!why) return null;
  return (
    <section aria-label="What is different">
      <h2>What is different</h2>
      <p>{why.headline}</p>
      <Lines>
        <tbody>
          {why.lines.map((line) => (
            <tr key={line.what}>
              <td>
                {line.baseline} → {line.current}
              </td>
              <td>
                <Link to={eventsOf(line.query, alert)}>
                  <Mono>{line.what}</Mono>
                </Link>
              </td>
            </tr>
          ))}
          {why.new_errors?.map((error) => (
            <tr key={error}>
              <td>never seen before</td>
              <td>{error}</td>
            </tr>
          ))}
          {why.marks.map((mark) => (
            <tr key={mark}>
              <td>changed before</td>
              <td>{mark}</td>
            </tr>
          ))}
        </tbody>
      </Lines>
    </section>
  );
}

function Notes({ alert, onDone }: { alert: AlertInFull; onDone: () => void }) {
  const { zone } = useZone();
  const [text, setText] = useState("");
  const [failure, setFailure] = useState("");
  const add = async () => {
    try {
      await api.noteAlert(alert.id, text);
      setText("");
      setFailure("");
      onDone();
    } catch (e) {
      setFailure(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <section aria-label="Notes">
      <h2>Notes</h2>
      <Noted>
        {alert.notes.map((note) => (
          <li key={`${note.at} ${note.text}`}>
            {note.text}{" "}
            <Muted>
              {note.by}, {moment(note.at, zone)}
            </Muted>
          </li>
        ))}
      </Noted>
      <LinesField label="write down what you found" value={text} rows={3} onChange={setText} />
      {failure && <Problem>{failure}</Problem>}
      <Button onPress={() => void add()} isDisabled={text.trim() === ""} style={{ marginTop: 8 }}>
        Add a note
      </Button>
    </section>
  );
}

/** One alert: why it was raised, what people found, and whom it notified. */
export default function AlertPage() {
  const me = useMe();
  const { id = "" } = useParams();
  const { zone } = useZone();
  const queries = useQueryClient();
  const found = useQuery({
    queryKey: ["alert", id],
    queryFn: ({ signal }) => api.alert(id, signal),
    refetchInterval: 5000,
  });
  const rules = useQuery({ queryKey: ["rules"], queryFn: ({ signal }) => api.rules(signal) });
  const again = () => {
    void queries.invalidateQueries({ queryKey: ["alert", id] });
    void queries.invalidateQueries({ queryKey: ["alerts"] });
    void queries.invalidateQueries({ queryKey: ["rules"] });
  };
  const alert = found.data;
  if (!alert)
    return (
      <Page>
        <h1>Alert</h1>
        {found.error && <Problem>{found.error.message}</Problem>}
      </Page>
    );
  const rule = rules.data?.find((one) => one.name === alert.rule);
  const groups = alert.groups.filter((group) => group.name !== "");
  return (
    <Page>
      <Head>
        <h1>
          {alert.rule} <State $raised={!alert.ended}>{stateOf(alert)}</State>
        </h1>
        <p>{alert.sentence}</p>
        <p>
          {figure(alert.peak, alert.unit)} {alert.unit}, bound {figure(alert.bound.number, alert.unit)} · raised{" "}
          {moment(alert.raised, zone)} <Muted>{alert.late ? "seen late" : ago(parseNs(alert.raised))}</Muted> · for{" "}
          {span(raisedFor(alert, Date.now()))}
          {alert.muted && <Muted> · muted: nobody was notified</Muted>}
        </p>
        {alert.note && <p>{alert.note}</p>}
        <p>
          <Link to={evidence(alert)}>its events</Link> · <Link to={difference(alert)}>what is different?</Link>
          {alert.explanation?.story && (
            <>
              {" · "}
              <Link to={`/story/${alert.explanation.story}`}>one story of it</Link>
            </>
          )}
          {" · "}
          <Link to={`/rules/${encodeURIComponent(alert.rule)}`}>the rule</Link>
          {alert.runbook && (
            <>
              {" · "}
              <a href={alert.runbook}>runbook</a>
            </>
          )}
        </p>
        <div>
          {alert.taken_by ? (
            <Muted>taken by {alert.taken_by}</Muted>
          ) : (
            !alert.ended && (
              <Button $chief onPress={() => void api.take(alert.id).then(again)}>
                Take it, {me?.name}
              </Button>
            )
          )}{" "}
          {rule?.may_change && <MuteForm rule={rule} onDone={again} />}
        </div>
      </Head>
      <Columns>
        <div>
          <Why alert={alert} />
          <Before alert={alert} />
          {groups.length > 0 && (
            <section aria-label="Groups">
              <h2>Groups</h2>
              <div className="wide">
                <Table>
                  <thead>
                    <tr>
                      <th scope="col">group</th>
                      <th scope="col">raised</th>
                      <th scope="col">until</th>
                      <th scope="col" className="number">
                        value
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {groups.map((group) => (
                      <tr key={`${group.name} ${group.raised}`}>
                        <td>
                          {group.name} {group.muted && <Muted>muted</Muted>}
                        </td>
                        <td>{moment(group.raised, zone)}</td>
                        <td>{group.withdrawn ? "withdrawn" : group.ended ? moment(group.ended, zone) : "raised"}</td>
                        <td className="number">{figure(group.peak, alert.unit)}</td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
              </div>
              {alert.group_count > alert.groups.length && (
                <Muted>
                  The first {alert.groups.length} of {alert.group_count}.
                </Muted>
              )}
            </section>
          )}
        </div>
        <div>
          <Notes alert={alert} onDone={again} />
          <section aria-label="Messages">
            <h2>Who was notified</h2>
            {alert.messages.length === 0 && <Muted>Nobody.</Muted>}
            <Tries messages={alert.messages.map((message) => ({ ...message, rule: "" }))} />
          </section>
        </div>
      </Columns>
      <Muted>
        The same in the terminal: <Mono>calvex alerts show {alert.id}</Mono>
      </Muted>
    </Page>
  );
}
