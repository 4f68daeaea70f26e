import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../api/client";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Form } from "../../ui/form";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { useChange } from "../../ui/change";
import { namesIn } from "./model";
import { Places } from "./Places";

const CALL = [
  ["no", "not on call"],
  ["yes", "on call"],
] as const;

/** Teams: who is in each, and what it owns. */
export default function TeamsPage() {
  const teams = useQuery({ queryKey: ["teams"], queryFn: ({ signal }) => api.teams(signal) });
  const [name, setName] = useState("");
  const [people, setPeople] = useState("");
  const [group, setGroup] = useState("");
  const [call, setCall] = useState("no");
  const [contact, setContact] = useState("");
  const contacts = useQuery({ queryKey: ["contacts"], queryFn: ({ signal }) => api.contacts(signal) });
  const known = [["", "nobody"] as const, ...(contacts.data ?? []).map((c) => [c.name ?? "", c.name ?? ""] as const)];
  const [problem, change] = useChange("teams", "people");
  const edit = (team: {
    name: string;
    members: string[];
    claim?: string | null;
    on_call: boolean;
    contact?: string | null;
  }) => {
    setName(team.name);
    setPeople(team.members.join(", "));
    setGroup(team.claim ?? "");
    setCall(team.on_call ? "yes" : "no");
    setContact(team.contact ?? "");
  };
  const set = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      await api.putTeam(name.trim(), {
        members: namesIn(people),
        claim: group.trim(),
        on_call: call === "yes",
        contact,
      });
      edit({ name: "", members: [], on_call: false });
    });
  };
  const error = problem ?? teams.error?.message;
  return (
    <Page>
      <Places />
      <h1>Teams</h1>
      <p>
        <Muted>
          A team owns lanes, keys, rules and contacts; its people look after them. People of the provider&apos;s group
          come and go with it. Whoever is on call may break the glass; the contact of the lane&apos;s owner is notified
          of that.
        </Muted>
      </p>
      {error && <Problem>{error}</Problem>}
      <Form onSubmit={set} aria-label="Make or change a team">
        <Field label="team" name="team" value={name} onChange={setName} mono />
        <div className="grow">
          <Field
            label="people"
            name="people"
            value={people}
            onChange={setPeople}
            placeholder="olle, ines"
            optional
            mono
          />
        </div>
        <Field label="group of the provider" name="group" value={group} onChange={setGroup} optional mono />
        <Choice label="duty" value={call} options={CALL} onChange={setCall} />
        <Choice label="notified" value={contact} options={known} onChange={setContact} />
        <Button type="submit">set</Button>
      </Form>
      {teams.data?.length === 0 && <Muted>There is no team yet.</Muted>}
      {teams.data && teams.data.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="Teams">
            <thead>
              <tr>
                <th scope="col">team</th>
                <th scope="col">people</th>
                <th scope="col">owns</th>
                <th scope="col">group</th>
                <th scope="col">duty</th>
                <th scope="col">notified</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {teams.data.map((t) => (
                <tr key={t.name}>
                  <td>{t.name}</td>
                  <td>{t.members.join(", ") || <Muted>nobody</Muted>}</td>
                  <td>{t.lanes.join(", ") || <Muted>no lane</Muted>}</td>
                  <td>
                    <Mono>{t.claim}</Mono>
                  </td>
                  <td className="short">{t.on_call && "on call"}</td>
                  <td>{t.contact}</td>
                  <td className="short">
                    <Quiet onPress={() => edit(t)}>change</Quiet>
                    <Quiet onPress={() => void change(() => api.removeTeam(t.name))}>remove</Quiet>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex team set lockers --person olle --on-call yes</Mono>
      </Muted>
    </Page>
  );
}
