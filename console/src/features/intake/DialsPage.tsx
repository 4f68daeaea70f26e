import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import { api } from "../../api/client";
import { clock, date, parseNs, span } from "../../api/time";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Glyph } from "../../ui/severity";
import type { Severity } from "../../api/types";
import { Table } from "../../ui/table";
import { Form } from "../../ui/form";
import { useChange } from "../../ui/change";
import { Places } from "./Places";
import { useWhose } from "./whose";

const LEAST = ["trace", "debug", "info", "warn", "error", "fatal"].map((s) => [s, s] as const);
const SPANS = [
  ["1800", "30 minutes"],
  ["3600", "an hour"],
  ["14400", "4 hours"],
  ["86400", "a day"],
  ["", "until taken back"],
] as const;

/** How much of what a service says is kept, and for how long. */
export default function DialsPage() {
  const { zone } = useZone();
  const dials = useQuery({ queryKey: ["dials"], queryFn: ({ signal }) => api.dials(signal), refetchInterval: 5000 });
  const [when, setWhen] = useState("");
  const [least, setLeast] = useState("debug");
  const [seconds, setSeconds] = useState("3600");
  const [why, setWhy] = useState("");
  const [problem, change] = useChange("dials");
  const { options, whose, team, choose, maySet } = useWhose();
  const add = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      await api.addDial({ when, least, why, team, ...(seconds ? { for_s: Number(seconds) } : {}) });
      setWhen("");
      setWhy("");
    });
  };
  const left = (until: string) => Number(parseNs(until) - BigInt(Date.now()) * 1_000_000n) / 1e9;
  const error = problem ?? dials.error?.message;
  return (
    <Page>
      <Places />
      <h1>Dials</h1>
      <p>
        <Muted>
          The least severity kept of some events; what lies below is set aside and counted. One with an end wins over
          those without, and falls back by itself. Senders ask <Mono>GET /v1/dials</Mono> and turn their own level.
        </Muted>
      </p>
      {error && <Problem>{error}</Problem>}
      {maySet && (
        <Form onSubmit={add} aria-label="Set a dial">
          {options.length > 1 && <Choice label="sent by" value={whose} options={options} onChange={choose} />}
          <div className="grow">
            <Field
              label="events"
              name="when"
              value={when}
              onChange={setWhen}
              placeholder="service=slots"
              mono
              optional
            />
          </div>
          <Choice label="least kept" value={least} options={LEAST} onChange={setLeast} />
          <Choice label="for" value={seconds} options={SPANS} onChange={setSeconds} />
          <div className="grow">
            <Field label="why" name="why" value={why} onChange={setWhy} optional />
          </div>
          <Button type="submit">set the dial</Button>
        </Form>
      )}
      {dials.data?.length === 0 && <Muted>No dial is set: everything that is sent is kept.</Muted>}
      {dials.data && dials.data.length > 0 && (
        <div className="wide">
          <Table aria-label="Dials">
            <thead>
              <tr>
                <th scope="col">dial</th>
                <th scope="col">events</th>
                <th scope="col">least kept</th>
                <th scope="col">works</th>
                <th scope="col">set by</th>
                <th scope="col">why</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {dials.data.map((d) => (
                <tr key={d.id}>
                  <td>{d.id}</td>
                  <td>
                    <Link to={`/search?q=${encodeURIComponent(d.when)}`}>
                      <Mono>{d.when || "every event"}</Mono>
                    </Link>{" "}
                    {d.team && <Muted>sent by {d.team}</Muted>}
                  </td>
                  <td>
                    <Glyph severity={d.least as Severity} /> {d.least}
                  </td>
                  <td>
                    {!d.until && "until taken back"}
                    {d.until && d.in_force && (
                      <>
                        for another {span(left(d.until))} <Muted>until {clock(parseNs(d.until), zone, 0)}</Muted>
                      </>
                    )}
                    {d.until && !d.in_force && <Muted>ended {clock(parseNs(d.until), zone, 0)}</Muted>}
                  </td>
                  <td>
                    {d.who}{" "}
                    <Muted>
                      {date(parseNs(d.set), zone)} {clock(parseNs(d.set), zone, 0)}
                    </Muted>
                  </td>
                  <td>{d.why}</td>
                  <td>
                    {maySet && (d.team || options[0]?.[0] === "") && (
                      <Quiet onPress={() => void change(() => api.removeDial(d.id))}>take back</Quiet>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex dial set &apos;service=slots&apos; debug --for 1h</Mono>
      </Muted>
    </Page>
  );
}
