import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../api/client";
import { ago, parseNs } from "../../api/time";
import type { KeyLimits, SenderKey } from "../../api/types";
import { Button, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Form, Shown } from "./form";
import { Places } from "./Places";

const OVERLAP_S = 86_400;

/** What a key may send, in words. */
export function allowed(l: KeyLimits): string {
  const told = [
    l.services?.length ? `for ${l.services.join(", ")}` : "",
    l.lanes?.length ? `to ${l.lanes.join(", ")}` : "",
    l.per_second ? `${l.per_second.toLocaleString("en")} a second` : "",
    l.day_events ? `${l.day_events.toLocaleString("en")} events a day` : "",
    l.day_bytes ? `${l.day_bytes.toLocaleString("en")} bytes a day` : "",
    l.until ? `until ${l.until}` : "",
  ].filter(Boolean);
  return told.join("; ") || "anything";
}

/** Who may send: keys with their limits and last use; made, rotated and revoked here. */
export default function KeysPage() {
  const queries = useQueryClient();
  const keys = useQuery({ queryKey: ["keys"], queryFn: ({ signal }) => api.keys(signal), refetchInterval: 10_000 });
  const [name, setName] = useState("");
  const [services, setServices] = useState("");
  const [rate, setRate] = useState("");
  const [made, setMade] = useState<{ name: string; secret: string; note: string }>();
  const [problem, setProblem] = useState<string>();
  const [asking, setAsking] = useState<string>();
  const change = async (act: () => Promise<void>) => {
    setProblem(undefined);
    try {
      await act();
    } catch (e) {
      setProblem((e as Error).message);
    }
    await queries.invalidateQueries({ queryKey: ["keys"] });
  };
  const add = (e: FormEvent) => {
    e.preventDefault();
    const limits: KeyLimits = {
      services: services.split(/[\s,]+/).filter(Boolean),
      ...(Number(rate) > 0 ? { per_second: Number(rate) } : {}),
    };
    void change(async () => {
      const { secret } = await api.addKey(name, limits);
      setMade({ name, secret, note: "It is shown this once." });
      setName("");
    });
  };
  const rotate = (key: SenderKey) =>
    change(async () => {
      const { secret } = await api.rotateKey(key.name, OVERLAP_S);
      setMade({
        name: key.name,
        secret,
        note: "The earlier secret works for another day. This one is shown this once.",
      });
    });
  const error = problem ?? keys.error?.message;
  return (
    <Page>
      <Places />
      <h1>Keys</h1>
      {error && <Problem>{error}</Problem>}
      {made && (
        <Shown role="status">
          The secret of {made.name}: <Mono>{made.secret}</Mono> <Muted>{made.note}</Muted>
        </Shown>
      )}
      <Form onSubmit={add} aria-label="Make a key">
        <Field label="name" name="name" value={name} onChange={setName} placeholder="slots-prod" />
        <Field
          label="only for these services"
          name="services"
          value={services}
          onChange={setServices}
          placeholder="any"
          optional
        />
        <Field label="events a second" name="rate" value={rate} onChange={setRate} placeholder="any number" optional />
        <Button type="submit">make a key</Button>
      </Form>
      {keys.data?.length === 0 && <Muted>No key yet; nothing can be sent without one.</Muted>}
      {keys.data && keys.data.length > 0 && (
        <div className="wide">
          <Table aria-label="Keys">
            <thead>
              <tr>
                <th scope="col">key</th>
                <th scope="col">begins</th>
                <th scope="col">state</th>
                <th scope="col">last used</th>
                <th scope="col" className="number">
                  stored today
                </th>
                <th scope="col">may send</th>
                <th scope="col">stamps</th>
                <th scope="col" />
              </tr>
            </thead>
            <tbody>
              {keys.data.map((k) => (
                <tr key={k.name}>
                  <td>{k.name}</td>
                  <td>
                    {k.secrets.map((s) => (
                      <div key={s.prefix}>
                        <Mono>{s.prefix}…</Mono> <Muted>{s.until && `until ${s.until}`}</Muted>
                      </div>
                    ))}
                  </td>
                  <td>{k.state === "in use" ? k.state : <Muted>{k.state}</Muted>}</td>
                  <td className="short">{k.last_used ? ago(parseNs(k.last_used)) : <Muted>never</Muted>}</td>
                  <td className="number">{k.used_today[0].toLocaleString("en")}</td>
                  <td>{allowed(k.limits)}</td>
                  <td>
                    {Object.entries(k.fixed).map(([field, value]) => (
                      <div key={field}>
                        {field}={value}
                      </div>
                    ))}
                  </td>
                  <td>
                    {k.state !== "revoked" && asking !== k.name && (
                      <>
                        <Quiet onPress={() => void rotate(k)}>rotate</Quiet>
                        <Quiet onPress={() => setAsking(k.name)}>revoke …</Quiet>
                      </>
                    )}
                    {asking === k.name && (
                      <>
                        <Button
                          onPress={() => {
                            setAsking(undefined);
                            void change(() => api.revokeKey(k.name));
                          }}
                        >
                          revoke {k.name} at once
                        </Button>
                        <Quiet onPress={() => setAsking(undefined)}>keep it</Quiet>
                      </>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex key list</Mono>; <Mono>calvex key limit</Mono> sets lanes, quotas and an
        end.
      </Muted>
    </Page>
  );
}
