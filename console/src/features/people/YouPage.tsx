import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../api/client";
import { ago, clock, date, parseNs } from "../../api/time";
import { useMe } from "../../app/session";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Form, Shown } from "../../ui/form";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { useChange } from "../../ui/change";
import { partOf } from "./model";
import { Places } from "./Places";

/** What the one signed in may do: lanes, teams, sessions, tokens, password; and, on call, breaking the glass. */
export default function YouPage() {
  const me = useMe();
  if (!me) return null;
  const part = (lane: string) => me.parts.find((part) => part.lane === lane);
  return (
    <Page>
      <Places />
      <h1>
        {me.name} <Muted>{me.role === "admin" ? "administrator" : me.role}</Muted>
      </h1>
      <p>
        {me.teams.length > 0 ? `In the team ${me.teams.join(", ")}.` : "In no team."}{" "}
        {me.lanes.length === 0 && "No grant lets you read a lane; ask whoever manages it."}
      </p>
      {me.lanes.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="What you may read">
            <thead>
              <tr>
                <th scope="col">lane</th>
                <th scope="col">you read</th>
                <th scope="col">and</th>
              </tr>
            </thead>
            <tbody>
              {me.lanes.map((lane) => {
                const restricted = part(lane);
                return (
                  <tr key={lane}>
                    <td>{lane}</td>
                    <td>{restricted ? <Mono>{partOf(restricted)}</Mono> : "every event"}</td>
                    <td>{me.manages.includes(lane) && "manage it"}</td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        </div>
      )}
      {me.on_call && <Glass />}
      <Sessions />
      <Tokens teams={me.teams} />
      <Password />
    </Page>
  );
}

function Glass() {
  const [lane, setLane] = useState("");
  const [why, setWhy] = useState("");
  const [done, setDone] = useState<string>();
  const [problem, change] = useChange("me", "grants");
  const act = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      const grant = await api.breakGlass(lane.trim(), why);
      setDone(`You read ${grant.lane} for an hour. Its owner is notified, and it stands in the audit trail.`);
      setLane("");
      setWhy("");
    });
  };
  return (
    <>
      <h1>Break the glass</h1>
      <p>
        <Muted>On call, you may read any lane for an hour without being asked. Whoever owns it is notified.</Muted>
      </p>
      {problem && <Problem>{problem}</Problem>}
      {done && <Shown role="status">{done}</Shown>}
      <Form onSubmit={act} aria-label="Break the glass">
        <Field label="lane" name="glass-lane" value={lane} onChange={setLane} mono />
        <div className="grow">
          <Field label="why this cannot wait" name="glass-why" value={why} onChange={setWhy} />
        </div>
        <Button type="submit">break the glass</Button>
      </Form>
    </>
  );
}

function Sessions() {
  const { zone } = useZone();
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: ({ signal }) => api.sessions(signal) });
  const [problem, change] = useChange("sessions");
  const error = problem ?? sessions.error?.message;
  return (
    <>
      <h1>Your sessions</h1>
      {error && <Problem>{error}</Problem>}
      <div className="wide" tabIndex={0}>
        <Table aria-label="Your sessions">
          <thead>
            <tr>
              <th scope="col">begun</th>
              <th scope="col">from</th>
              <th scope="col">last used</th>
              <th scope="col">ends</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {sessions.data?.map((s) => (
              <tr key={s.id}>
                <td className="short">
                  {date(parseNs(s.begun), zone)} {clock(parseNs(s.begun), zone, 0)}
                </td>
                <td>
                  <Mono>{s.address}</Mono>
                </td>
                <td className="short">{ago(parseNs(s.seen))}</td>
                <td className="short">{clock(parseNs(s.until), zone, 0)}</td>
                <td className="short">
                  {s.own ? (
                    <Muted>this one</Muted>
                  ) : (
                    <Quiet onPress={() => void change(() => api.endSession(s.id))}>end</Quiet>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
    </>
  );
}

const PURPOSES = [
  ["read", "read"],
  ["configure", "configure lanes"],
  ["administer", "all that you may"],
] as const;

function Tokens({ teams }: { teams: string[] }) {
  const { zone } = useZone();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: ({ signal }) => api.tokens(signal) });
  const [name, setName] = useState("");
  const [purpose, setPurpose] = useState("read");
  const [team, setTeam] = useState("");
  const [made, setMade] = useState<{ name: string; secret: string }>();
  const [problem, change] = useChange("tokens");
  const owners = [["", "you"] as const, ...teams.map((t) => [t, `the team ${t}`] as const)];
  const add = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      setMade(await api.addToken({ name: name.trim(), purpose, team }));
      setName("");
    });
  };
  const error = problem ?? tokens.error?.message;
  const used = tokens.data?.filter((t) => !t.revoked) ?? [];
  return (
    <>
      <h1>Tokens</h1>
      {error && <Problem>{error}</Problem>}
      <Form onSubmit={add} aria-label="Make a token">
        <Field label="name" name="token" value={name} onChange={setName} mono />
        <Choice label="it may" value={purpose} options={PURPOSES} onChange={setPurpose} />
        <Choice label="of" value={team} options={owners} onChange={setTeam} />
        <Button type="submit">make a token</Button>
      </Form>
      {made && (
        <Shown role="status">
          {made.name}: <Mono>{made.secret}</Mono> <Muted>It is shown this once.</Muted>
        </Shown>
      )}
      {used.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="Tokens">
            <thead>
              <tr>
                <th scope="col">token</th>
                <th scope="col">of</th>
                <th scope="col">may</th>
                <th scope="col">begins</th>
                <th scope="col">made</th>
                <th scope="col">ends</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {used.map((t) => (
                <tr key={t.name}>
                  <td>{t.name}</td>
                  <td>{t.owner}</td>
                  <td>{t.purpose}</td>
                  <td>
                    <Mono>{t.prefix}…</Mono>
                  </td>
                  <td className="short">{date(parseNs(t.created), zone)}</td>
                  <td className="short">{t.until ? date(parseNs(t.until), zone) : <Muted>when revoked</Muted>}</td>
                  <td>
                    <Quiet onPress={() => void change(() => api.revokeToken(t.name))}>revoke</Quiet>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
    </>
  );
}

function Password() {
  const [password, setPassword] = useState("");
  const [next, setNext] = useState("");
  const [isSet, setIsSet] = useState(false);
  const [problem, change] = useChange("sessions");
  const set = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      setIsSet(false);
      await api.changePassword(password, next);
      setIsSet(true);
      setPassword("");
      setNext("");
    });
  };
  return (
    <>
      <h1>Password</h1>
      {problem && <Problem>{problem}</Problem>}
      {isSet && <Shown role="status">The password is changed; your other sessions have ended.</Shown>}
      <Form onSubmit={set} aria-label="Change the password">
        <Field label="present password" name="present" kind="password" value={password} onChange={setPassword} />
        <Field label="new password" name="next" kind="password" value={next} onChange={setNext} />
        <Button type="submit">change it</Button>
      </Form>
    </>
  );
}
