import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../api/client";
import { ago, clock, date, parseNs } from "../../api/time";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet, Select } from "../../ui/controls";
import { Form, Shown } from "../../ui/form";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { useChange } from "../../ui/change";
import { Places } from "./Places";

const ROLES = [
  ["reader", "reader"],
  ["auditor", "auditor"],
  ["admin", "administrator"],
] as const;

/** Everybody who signs in: role, teams, what each may read, and whether still. */
export default function EverybodyPage() {
  const { zone } = useZone();
  const people = useQuery({
    queryKey: ["people"],
    queryFn: ({ signal }) => api.people(signal),
    refetchInterval: 15_000,
  });
  const [name, setName] = useState("");
  const [role, setRole] = useState("reader");
  const [code, setCode] = useState<{ name: string; code: string; until: string }>();
  const [problem, change] = useChange("people");
  const show = (made: { name: string; code?: string | null; until?: string | null }) =>
    setCode({ name: made.name, code: made.code ?? "", until: made.until ?? "" });
  const add = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      show(await api.addPerson(name.trim(), role));
      setName("");
    });
  };
  const error = problem ?? people.error?.message;
  return (
    <Page>
      <Places />
      <h1>Everybody</h1>
      <p>
        <Muted>
          An administrator looks after people, nodes and settings, and reads no lane without a grant. An auditor reads
          the audit trail. Whoever is disabled is signed out at once, and the person&apos;s tokens are revoked.
        </Muted>
      </p>
      {error && <Problem>{error}</Problem>}
      <Form onSubmit={add} aria-label="Add a person">
        <Field label="name" name="person" value={name} onChange={setName} mono />
        <Choice label="role" value={role} options={ROLES} onChange={setRole} />
        <Button type="submit">add</Button>
      </Form>
      {code && (
        <Shown role="status">
          {code.name} sets a password by this code, once, until {date(parseNs(code.until), zone)}{" "}
          {clock(parseNs(code.until), zone, 0)}: <Mono>{code.code}</Mono> <Muted>It is shown this once.</Muted>
        </Shown>
      )}
      <div className="wide" tabIndex={0}>
        <Table aria-label="People">
          <thead>
            <tr>
              <th scope="col">person</th>
              <th scope="col">role</th>
              <th scope="col">teams</th>
              <th scope="col">reads</th>
              <th scope="col">sessions</th>
              <th scope="col">last seen</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {people.data?.map((p) => (
              <tr key={p.name}>
                <td>
                  {p.name} {p.by_provider && <Muted>signs in by the provider</Muted>}
                </td>
                <td>
                  <Select
                    aria-label={`Role of ${p.name}`}
                    value={p.role}
                    onChange={(e) => void change(() => api.changePerson(p.name, { role: e.target.value }))}
                  >
                    {ROLES.map(([value, shown]) => (
                      <option key={value} value={value}>
                        {shown}
                      </option>
                    ))}
                  </Select>
                </td>
                <td>{p.teams.join(", ")}</td>
                <td>{p.lanes.join(", ") || <Muted>nothing</Muted>}</td>
                <td className="short">
                  {p.disabled ? (
                    <Muted>disabled {date(parseNs(p.disabled), zone)}</Muted>
                  ) : (
                    <>
                      {p.sessions}{" "}
                      {p.sessions > 0 && <Quiet onPress={() => void change(() => api.signOut(p.name))}>sign out</Quiet>}
                    </>
                  )}
                </td>
                <td className="short">{p.seen ? ago(parseNs(p.seen)) : <Muted>never</Muted>}</td>
                <td className="short">
                  <Quiet onPress={() => void change(async () => show(await api.passwordCode(p.name)))}>new code</Quiet>
                  <Quiet onPress={() => void change(() => api.changePerson(p.name, { disabled: !p.disabled }))}>
                    {p.disabled ? "enable" : "disable"}
                  </Quiet>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
      <Muted>
        The same in the terminal: <Mono>calvex person add olle</Mono>, <Mono>calvex person disable olle</Mono>
      </Muted>
    </Page>
  );
}
