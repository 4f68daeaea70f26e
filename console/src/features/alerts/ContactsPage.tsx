import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, parseNs } from "../../api/time";
import { space, type } from "../../app/tokens";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Around } from "./Around";
import { Tries } from "./Tries";

const Stray = styled.div`
  color: ${(p) => p.theme.severity.error};
`;

const Ways = styled.div`
  overflow-wrap: anywhere;
  max-width: 320px;
`;

const Latest = styled.section`
  margin: ${space.l} 0;
  h2 {
    font-size: ${type.lead};
    margin: 0 0 ${space.m};
  }
`;

/** Whom rules notify, and the messages that went out lately. */
export default function ContactsPage() {
  const queries = useQueryClient();
  const contacts = useQuery({
    queryKey: ["contacts"],
    queryFn: ({ signal }) => api.contacts(signal),
    refetchInterval: 10_000,
  });
  const messages = useQuery({
    queryKey: ["messages"],
    queryFn: ({ signal }) => api.messages(signal),
    refetchInterval: 10_000,
  });
  const [tested, setTested] = useState<Record<string, string>>({});
  const test = async (name: string) => {
    setTested((known) => ({ ...known, [name]: "sending" }));
    const done = await api.testContact(name).then(
      (sent) => sent.map((one) => `${one.kind} ${one.state}`).join(", "),
      (e: unknown) => (e instanceof Error ? e.message : String(e)),
    );
    setTested((known) => ({ ...known, [name]: done }));
    await queries.invalidateQueries({ queryKey: ["contacts"] });
  };
  const error = contacts.error ?? messages.error;
  return (
    <Page>
      {error && <Problem>{error.message}</Problem>}
      <h1>Contacts</h1>
      <Around here="/contacts" />
      {contacts.data?.length === 0 && (
        <Muted>
          No contact yet; <Mono>calvex contact set</Mono> makes one.
        </Muted>
      )}
      {contacts.data && contacts.data.length > 0 && (
        <div className="wide">
          <Table aria-label="Contacts">
            <thead>
              <tr>
                <th scope="col">contact</th>
                <th scope="col">ways</th>
                <th scope="col">hours</th>
                <th scope="col">then</th>
                <th scope="col">repeats</th>
                <th scope="col">an hour</th>
                <th scope="col">hears that Calvex works</th>
                <th scope="col">test</th>
              </tr>
            </thead>
            <tbody>
              {contacts.data.map((c) => (
                <tr key={c.name}>
                  <td>
                    {c.name}
                    {c.failing_since && <Stray>cannot be reached, {ago(parseNs(c.failing_since))}</Stray>}
                  </td>
                  <td>
                    {c.mail && <Ways>{c.mail}</Ways>}
                    {c.webhook && <Ways>{c.webhook}</Ways>}
                  </td>
                  <td>{c.hours ? `${c.hours} ${c.zone}` : "always"}</td>
                  <td>{c.next ? `${c.next} after ${c.after}` : <Muted>nobody</Muted>}</td>
                  <td>{c.repeat ? `every ${c.repeat}` : <Muted>never</Muted>}</td>
                  <td>{c.hourly} at most</td>
                  <td>
                    {c.heartbeat ? `every ${c.heartbeat}` : <Muted>never</Muted>}
                    {c.last_heartbeat && <Muted> last {ago(parseNs(c.last_heartbeat))}</Muted>}
                    {c.heartbeat_error && <Stray>{c.heartbeat_error}</Stray>}
                  </td>
                  <td>
                    <Quiet onPress={() => void test(c.name ?? "")}>send a test</Quiet>{" "}
                    <span role="status">{tested[c.name ?? ""]}</span>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Latest aria-label="Messages">
        <h2>The latest messages</h2>
        {messages.data?.length === 0 && <Muted>None yet.</Muted>}
        {messages.data && <Tries messages={messages.data} />}
      </Latest>
      <Muted>
        The same in the terminal: <Mono>calvex contact list</Mono>, <Mono>calvex contact messages</Mono>
      </Muted>
    </Page>
  );
}
