import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../api/client";
import { ago, parseNs } from "../../api/time";
import type { SenderKey } from "../../api/types";
import { Button, Choice, Field, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Form, Shown } from "../../ui/form";
import { useChange } from "../../ui/change";
import { Places } from "./Places";
import { allowed, draftOf, limitsOf, NO_LIMITS, type Draft } from "./keys.model";
import { number } from "../../ui/number";

const OVERLAP_S = 86_400;
const ENDS = [
  ["", "never"],
  ["1", "after a day"],
  ["30", "after 30 days"],
  ["90", "after 90 days"],
  ["365", "after a year"],
] as const;
const OLD = [
  ["late", "are late"],
  ["past", "are a past that is moved in"],
] as const;

/** Who may send: keys with their limits and last use; made, rotated and revoked here. */
export default function KeysPage() {
  const keys = useQuery({ queryKey: ["keys"], queryFn: ({ signal }) => api.keys(signal), refetchInterval: 10_000 });
  const [name, setName] = useState("");
  const [draft, setDraft] = useState(NO_LIMITS);
  const [limited, setLimited] = useState<SenderKey>();
  const [made, setMade] = useState<{ name: string; secret: string; note: string }>();
  const [asking, setAsking] = useState<string>();
  const [problem, change] = useChange("keys");
  const add = (e: FormEvent) => {
    e.preventDefault();
    void change(async () => {
      if (limited) {
        await api.limitKey(limited.name, limitsOf(draft, Date.now(), limited.limits));
      } else {
        const { secret } = await api.addKey(name, limitsOf(draft, Date.now()));
        setMade({ name, secret, note: "It is shown this once." });
      }
      edit(undefined);
    });
  };
  const edit = (key?: SenderKey) => {
    setLimited(key);
    setName("");
    setDraft(key ? draftOf(key.limits) : NO_LIMITS);
  };
  const typed = (part: keyof Draft) => (text: string) => setDraft({ ...draft, [part]: text });
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
      <Form onSubmit={add} aria-label={limited ? `Limit ${limited.name}` : "Make a key"}>
        {limited ? (
          <p>
            What <strong>{limited.name}</strong> may send:
          </p>
        ) : (
          <Field label="name" name="name" value={name} onChange={setName} placeholder="slots-prod" />
        )}
        <Field
          label="only for services"
          name="services"
          value={draft.services}
          onChange={typed("services")}
          placeholder="any"
          optional
        />
        <Field
          label="only to lanes"
          name="lanes"
          value={draft.lanes}
          onChange={typed("lanes")}
          placeholder="any"
          optional
        />
        <Field
          label="events a second"
          name="rate"
          value={draft.rate}
          onChange={typed("rate")}
          placeholder="any number"
          optional
        />
        <Field
          label="events a day"
          name="day"
          value={draft.day}
          onChange={typed("day")}
          placeholder="any number"
          optional
        />
        <Choice label="old events" value={draft.old} options={OLD} onChange={typed("old")} />
        <Choice
          label="ends"
          value={draft.ends}
          options={limited?.limits.until ? [["keep", `as set, ${limited.limits.until}`], ...ENDS] : ENDS}
          onChange={typed("ends")}
        />
        <Button type="submit">{limited ? "set the limits" : "make a key"}</Button>
        {limited && <Quiet onPress={() => edit(undefined)}>leave them</Quiet>}
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
                <td />
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
                  <td className="number">{number(k.used_today[0])}</td>
                  <td>{allowed(k.limits)}</td>
                  <td>
                    {Object.entries(k.fixed).map(([field, value]) => (
                      <div key={field}>
                        {field}={value}
                      </div>
                    ))}
                  </td>
                  <td className="short">
                    {k.state !== "revoked" && asking !== k.name && (
                      <>
                        <Quiet onPress={() => edit(k)}>limits …</Quiet>
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
        The same in the terminal: <Mono>calvex key list</Mono>
      </Muted>
    </Page>
  );
}
