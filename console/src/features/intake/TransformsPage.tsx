import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, parseNs } from "../../api/time";
import type { TransformRule, TriedEvent } from "../../api/types";
import { space } from "../../app/tokens";
import { Button, Choice, Field, LinesField, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { changes } from "./changes";
import { Form } from "../../ui/form";
import { useChange } from "../../ui/change";
import { Places } from "./Places";
import { useWhose } from "./whose";
import { ACTS, HINTS, actOf } from "./transforms.model";
import { number } from "../../ui/number";

const Whose = styled.div`
  width: 16rem;
  margin-bottom: ${space.m};
`;

const Step = styled.div`
  padding: ${space.xs} 0 ${space.xs} ${space.l};
  border-left: 2px solid ${(p) => p.theme.line};
  dl {
    display: grid;
    grid-template-columns: max-content 1fr;
    gap: 2px ${space.m};
    margin: ${space.xs} 0;
  }
  dt {
    color: ${(p) => p.theme.muted};
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  del {
    color: ${(p) => p.theme.muted};
  }
  ins {
    text-decoration: none;
    color: ${(p) => p.theme.accent};
  }
`;

function Tried({ event }: { event: TriedEvent }) {
  let before: unknown = event.tried?.before;
  return (
    <section aria-label={`Line ${event.line}`}>
      <p>
        line {event.line}:{" "}
        {event.refused
          ? `refused, ${event.refused}`
          : event.set_aside
            ? `set aside by ${event.set_aside}`
            : `stored in lane ${event.lane}`}
      </p>
      {event.tried?.steps.map((step) => {
        const reported = step.after ? changes(before, step.after) : [];
        before = step.after ?? before;
        return (
          <Step key={step.rule}>
            {step.rule} <Muted>{step.note}</Muted>
            {reported.length > 0 && (
              <dl>
                {reported.map((c) => (
                  <div key={c.field} style={{ display: "contents" }}>
                    <dt>{c.field}</dt>
                    <dd>
                      {c.before !== undefined && <del>{c.before}</del>} <ins>{c.after ?? <Muted>gone</Muted>}</ins>
                    </dd>
                  </div>
                ))}
              </dl>
            )}
          </Step>
        );
      })}
    </section>
  );
}

/** What is done to events on purpose before they are kept, with a place to try it. */
export default function TransformsPage() {
  const rules = useQuery({
    queryKey: ["transforms"],
    queryFn: ({ signal }) => api.transforms(signal),
    refetchInterval: 10_000,
  });
  const [name, setName] = useState("");
  const [when, setWhen] = useState("");
  const [kind, setKind] = useState("cut");
  const [text, setText] = useState("");
  const [events, setEvents] = useState('{"service":"sorter","msg":"belt 4 photo eye dusty, reading 0.61"}');
  const [tried, setTried] = useState<TriedEvent[]>();
  const { options, whose, team, choose, maySet } = useWhose();
  const all = (rules.data ?? []).filter((r) => (r.team ?? "") === whose);
  const [problem, attempt] = useChange("transforms");
  const put = (list: TransformRule["rule"][]) => attempt(() => api.putTransforms(team, list));
  const drafted = () => [
    ...all.map((r) => r.rule).filter((r) => r.name !== name),
    ...(name ? [{ name, when, act: actOf(kind, text) }] : []),
  ];
  const add = (e: FormEvent) => {
    e.preventDefault();
    void put(drafted());
  };
  const moved = (at: number, by: number) => {
    const list = all.map((r) => r.rule);
    const [rule] = list.splice(at, 1);
    if (rule) list.splice(at + by, 0, rule);
    return put(list);
  };
  const error = problem ?? rules.error?.message;
  return (
    <Page>
      <Places />
      <h1>Transforms</h1>
      {error && <Problem>{error}</Problem>}
      {options.length > 1 && (
        <Whose>
          <Choice label="for what is sent by" value={whose} options={options} onChange={choose} />
        </Whose>
      )}
      {options.length === 1 && whose !== "" && (
        <p>
          <Muted>For what the keys of {whose} send, behind the rules of the service.</Muted>
        </p>
      )}
      {!maySet && (
        <p>
          <Muted>Rules are set by administrators, and by teams for what their keys send; you are in no team.</Muted>
        </p>
      )}
      {maySet && rules.data && all.length === 0 && (
        <p>
          <Muted>No rule yet: events are stored as they are sent.</Muted>
        </p>
      )}
      {all.length > 0 && (
        <div className="wide">
          <Table aria-label="Transform rules">
            <thead>
              <tr>
                <td />
                <th scope="col">rule</th>
                <th scope="col">when</th>
                <th scope="col">does</th>
                <th scope="col" className="number">
                  applied
                </th>
                <th scope="col">last</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {all.map((r, n) => (
                <tr key={r.rule.name}>
                  <td className="number">
                    <Muted>{n + 1}</Muted>
                  </td>
                  <td>{r.rule.name}</td>
                  <td>
                    <Mono>{r.rule.when || "every event"}</Mono>
                  </td>
                  <td>
                    <Mono>{r.text}</Mono>
                  </td>
                  <td className="number">{number(r.held)}</td>
                  <td className="short">
                    {r.last ? ago(parseNs(r.last)) : "never"} <Muted>{r.idle && "idle for a week"}</Muted>
                  </td>
                  <td style={{ whiteSpace: "nowrap" }}>
                    <Quiet isDisabled={n === 0} aria-label={`Move ${r.rule.name} up`} onPress={() => void moved(n, -1)}>
                      up
                    </Quiet>
                    <Quiet
                      isDisabled={n === all.length - 1}
                      aria-label={`Move ${r.rule.name} down`}
                      onPress={() => void moved(n, 1)}
                    >
                      down
                    </Quiet>
                    <Quiet
                      aria-label={`Remove ${r.rule.name}`}
                      onPress={() => void put(all.filter((o) => o !== r).map((o) => o.rule))}
                    >
                      remove
                    </Quiet>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {maySet && (
        <>
          <h1>Add or try</h1>
          <Form onSubmit={add} aria-label="Add a rule">
            <Field label="rule" name="name" value={name} onChange={setName} placeholder="belts" />
            <div className="grow">
              <Field
                label="when"
                name="when"
                value={when}
                onChange={setWhen}
                placeholder="service=sorter"
                mono
                optional
              />
            </div>
            <Choice label="does" value={kind} options={ACTS} onChange={setKind} />
            {kind !== "set-aside" && (
              <div className="grow">
                <Field label="how" name="how" value={text} onChange={setText} placeholder={HINTS[kind]} mono />
              </div>
            )}
            <Button type="submit">add the rule</Button>
          </Form>
          <LinesField label="Events to try: NDJSON, or lines of text" value={events} rows={4} onChange={setEvents} />
          <p>
            <Button
              onPress={() =>
                void attempt(async () =>
                  setTried(await api.tryTransforms(team, events, name && text ? drafted() : undefined)),
                )
              }
            >
              try {name && text ? `with ${name}` : "the rules"}
            </Button>{" "}
            <Muted>nothing is stored</Muted>
          </p>
          {tried?.map((event) => (
            <Tried key={event.line} event={event} />
          ))}
        </>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex transform list</Mono>, <Mono>calvex transform try FILE</Mono>
      </Muted>
    </Page>
  );
}
