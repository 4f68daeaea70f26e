import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import { api } from "../../api/client";
import { clock, date, parseNs } from "../../api/time";
import type { Grant, NewGrant } from "../../api/types";
import { useMe } from "../../app/session";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Form } from "../../ui/form";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { useChange } from "../../ui/change";
import { endOf, extentOf, namesIn } from "./model";
import { Places } from "./Places";

const MAY = [
  ["read", "read"],
  ["configure", "configure"],
  ["manage", "manage"],
] as const;
const TO = [
  ["team", "team"],
  ["person", "person"],
] as const;
const ENDS = [
  ["", "until it is ended"],
  ["8", "for 8 hours"],
  ["24", "for a day"],
  ["720", "for 30 days"],
] as const;

/** Grants to oneself and on the lanes one manages; and who can read a lane, and why. */
export default function GrantsPage() {
  const me = useMe();
  const [params, setParams] = useSearchParams();
  const grants = useQuery({
    queryKey: ["grants"],
    queryFn: ({ signal }) => api.grants(signal),
    refetchInterval: 15_000,
  });
  const [problem, change] = useChange("grants", "readers");
  const managed = me?.manages ?? [];
  // Where nobody manages a lane, an administrator gives the first grant.
  const lanes = me?.role === "admin" ? [...new Set([...managed, ...(grants.data?.map((g) => g.lane) ?? [])])] : managed;
  const lane = params.get("lane") ?? lanes[0] ?? "";
  const error = problem ?? grants.error?.message;
  return (
    <Page>
      <Places />
      <h1>Grants</h1>
      <p>
        <Muted>
          A grant lets a team or a person read a lane or a part of it, configure it, or manage it. Rows of several
          grants add up; a field is hidden in a row unless a grant that admits the row shows it. Either side ends a
          grant.
        </Muted>
      </p>
      {error && <Problem>{error}</Problem>}
      {lanes.length > 0 && <Give lanes={lanes} lane={lane} change={change} />}
      {grants.data?.length === 0 && <Muted>No grant stands that concerns you.</Muted>}
      {grants.data && grants.data.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="Grants">
            <thead>
              <tr>
                <th scope="col">lane</th>
                <th scope="col">to</th>
                <th scope="col">may</th>
                <th scope="col">over</th>
                <th scope="col">ends</th>
                <th scope="col">given by</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {grants.data.map((g) => (
                <Row key={g.id} grant={g} onEnd={() => change(() => api.endGrant(g.id))} />
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {lanes.length > 0 && (
        <>
          <h1>Who can read a lane, and why</h1>
          <Form aria-label="Lane">
            <Choice
              label="lane"
              value={lane}
              options={lanes.map((l) => [l, l] as const)}
              onChange={(lane) => setParams({ lane }, { replace: true })}
            />
          </Form>
          <Readers lane={lane} />
        </>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex grant give main --team couriers --rows service=slots</Mono>,{" "}
        <Mono>calvex grant readers main</Mono>
      </Muted>
    </Page>
  );
}

function Row({ grant, onEnd }: { grant: Grant; onEnd: () => Promise<void> }) {
  const { zone } = useZone();
  return (
    <tr>
      <td>{grant.lane}</td>
      <td>{grant.team ? `team ${grant.team}` : grant.person}</td>
      <td>{grant.may}</td>
      <td>
        {grant.rows || grant.hidden.length > 0 ? <Mono>{extentOf(grant)}</Mono> : "every event"}
        {grant.broken && <Problem>Gives nothing: {grant.broken}</Problem>}
      </td>
      <td className="short">
        {grant.until ? (
          <>
            {date(parseNs(grant.until), zone)} {clock(parseNs(grant.until), zone, 0)}
          </>
        ) : (
          <Muted>when it is ended</Muted>
        )}
      </td>
      <td>
        {grant.break_glass && "glass broken by "}
        {grant.by} <Muted>{grant.why}</Muted>
      </td>
      <td className="short">{grant.may_end && <Quiet onPress={() => void onEnd()}>end</Quiet>}</td>
    </tr>
  );
}

function Give(props: { lanes: string[]; lane: string; change: (act: () => Promise<unknown>) => Promise<void> }) {
  const [lane, setLane] = useState(props.lane);
  const [kind, setKind] = useState("team");
  const [name, setName] = useState("");
  const [may, setMay] = useState("read");
  const [rows, setRows] = useState("");
  const [hidden, setHidden] = useState("");
  const [hours, setHours] = useState("");
  const [why, setWhy] = useState("");
  const give = (e: FormEvent) => {
    e.preventDefault();
    void props.change(async () => {
      const to = kind === "team" ? { team: name.trim() } : { person: name.trim() };
      const part = may === "read" ? { rows: rows.trim(), hidden: namesIn(hidden) } : {};
      await api.giveGrant({ lane, may: may as NewGrant["may"], why, until: endOf(hours, Date.now()), ...to, ...part });
      setName("");
      setRows("");
      setHidden("");
      setWhy("");
    });
  };
  return (
    <Form onSubmit={give} aria-label="Give a grant">
      <Choice label="lane" value={lane} options={props.lanes.map((l) => [l, l] as const)} onChange={setLane} />
      <Choice label="to a" value={kind} options={TO} onChange={setKind} />
      <Field label="name" name="to" value={name} onChange={setName} mono />
      <Choice label="may" value={may} options={MAY} onChange={setMay} />
      {may === "read" && (
        <>
          <div className="grow">
            <Field
              label="events"
              name="rows"
              value={rows}
              onChange={setRows}
              placeholder="service=slots"
              optional
              mono
            />
          </div>
          <Field
            label="hidden fields"
            name="hidden"
            value={hidden}
            onChange={setHidden}
            placeholder="recipient.phone"
            optional
            mono
          />
        </>
      )}
      <Choice label="ends" value={hours} options={ENDS} onChange={setHours} />
      <div className="grow">
        <Field label="why" name="why" value={why} onChange={setWhy} optional />
      </div>
      <Button type="submit">give</Button>
    </Form>
  );
}

function Readers({ lane }: { lane: string }) {
  const readers = useQuery({
    queryKey: ["readers", lane],
    queryFn: ({ signal }) => api.readers(lane, signal),
    retry: false,
  });
  if (readers.error) return <Problem>{readers.error.message}</Problem>;
  return (
    <div className="wide" tabIndex={0}>
      <Table aria-label={`Who can read ${lane}`}>
        <thead>
          <tr>
            <th scope="col">person</th>
            <th scope="col">through</th>
            <th scope="col">reads</th>
            <th scope="col">because</th>
          </tr>
        </thead>
        <tbody>
          {readers.data?.map((r) => (
            <tr key={`${r.person} ${r.team ?? ""} ${r.grant?.id ?? ""}`}>
              <td>{r.person}</td>
              <td>{r.team ? `team ${r.team}` : <Muted>own grant</Muted>}</td>
              <td>{r.grant ? <Mono>{extentOf(r.grant)}</Mono> : "every event"}</td>
              <td>
                {r.grant ? (
                  <>
                    {r.grant.break_glass && "glass broken by "}
                    {r.grant.by} <Muted>{r.grant.why}</Muted>
                  </>
                ) : (
                  "the team owns the lane"
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}
