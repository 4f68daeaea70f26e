import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, moment, parseNs } from "../../api/time";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Hours } from "./Hours";
import { Places } from "./Places";
import { WaysIn } from "./WaysIn";
import { folded, hoursBack, notes } from "./arrivals.model";
import { number } from "../../ui/number";

const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: ${space.s} ${space.l};
  h1 {
    flex: 1;
  }
`;

const Note = styled.span`
  color: ${(p) => p.theme.severity.warn};
`;

const SPANS = [
  [1, "this hour"],
  [24, "a day"],
  [192, "eight days"],
] as const;

/** What set events aside, with the way to where it is set. */
function Cause({ cause }: { cause: string }) {
  if (cause.startsWith("dial ")) return <Link to="/intake/dials">{cause}</Link>;
  if (cause.startsWith("rule ")) return <Link to="/intake/transforms">{cause}</Link>;
  return cause.endsWith("key") ? <Link to="/intake/keys">{cause}</Link> : cause;
}

/** Did mine arrive, and if not, why: what was stored by service, what was refused, and where one can send. */
export default function IntakePage() {
  const { zone } = useZone();
  const [params, setParams] = useSearchParams();
  const hours = hoursBack(params.get("back"));
  const service = params.get("service") ?? "";
  const arrivals = useQuery({
    queryKey: ["arrivals", hours, service],
    queryFn: ({ signal }) => api.arrivals(hours, service, signal),
    refetchInterval: 5000,
    placeholderData: (before) => before,
  });
  const choose = (change: Record<string, string>) =>
    setParams({ ...Object.fromEntries(params), ...change }, { replace: true });
  const answer = arrivals.data;
  const terminal = `calvex arrivals${service ? ` ${service}` : ""}${hours === 24 ? "" : ` --back ${hours}h`}`;
  return (
    <Page>
      <Places />
      <Head>
        <h1>{service ? `Arrivals of ${service}` : "Arrivals"}</h1>
        {service && <Quiet onPress={() => choose({ service: "" })}>every service</Quiet>}
        <span role="group" aria-label="How far back">
          {SPANS.map(([n, name]) => (
            <Quiet key={n} $on={n === hours} aria-pressed={n === hours} onPress={() => choose({ back: `${n}h` })}>
              {name}
            </Quiet>
          ))}
        </span>
      </Head>
      {arrivals.error && <Problem>{arrivals.error.message}</Problem>}
      {answer?.arrivals.length === 0 && (
        <p>
          <Muted>
            Nothing {service && `of ${service} `}arrived in this time, in the lanes you may read. `calvex probe` shows
            whether events get through; what was refused stands below.
          </Muted>
        </p>
      )}
      {answer?.more && (
        <Muted>These are the first {number(answer.arrivals.length)} rows; name a service to see all of it.</Muted>
      )}
      {answer && answer.arrivals.length > 0 && (
        <div className="wide">
          <Table aria-label="Arrivals">
            <thead>
              <tr>
                <th scope="col">service</th>
                <th scope="col">host</th>
                <th scope="col">sender</th>
                <th scope="col">lane</th>
                <th scope="col" className="number">
                  stored
                </th>
                <th scope="col" className="number">
                  of these late
                </th>
                <th scope="col">last</th>
                <th scope="col">by hour</th>
                <th scope="col">to know</th>
              </tr>
            </thead>
            <tbody>
              {(service ? answer.arrivals : folded(answer.arrivals)).map((a) => (
                <tr key={[a.service, a.host, a.sender, a.lane].join(" ")}>
                  <td>
                    {a.service ? (
                      <Link to={`/search?${new URLSearchParams({ q: `service=${JSON.stringify(a.service)}` })}`}>
                        {a.service}
                      </Link>
                    ) : (
                      <Muted>none sent</Muted>
                    )}
                  </td>
                  <td>
                    {!service && a.service && a.host ? (
                      <Quiet onPress={() => choose({ service: a.service })}>{a.host}</Quiet>
                    ) : (
                      a.host || <Muted>none sent</Muted>
                    )}
                  </td>
                  <td>{a.sender}</td>
                  <td>{a.lane}</td>
                  <td className="number">{number(a.stored)}</td>
                  <td className="number">{a.late > 0 ? number(a.late) : <Muted>0</Muted>}</td>
                  <td title={moment(a.last, zone)}>{ago(parseNs(a.last))}</td>
                  <td>
                    <Hours counts={a.per_hour} />
                  </td>
                  <td>
                    <Note>{notes(a).join(", ")}</Note>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      {answer && answer.set_aside.length > 0 && (
        <>
          <h1>Set aside on purpose</h1>
          <div className="wide">
            <Table aria-label="Set aside">
              <thead>
                <tr>
                  <th scope="col" className="number">
                    events
                  </th>
                  <th scope="col">by</th>
                  <th scope="col">service</th>
                  <th scope="col">host</th>
                  <th scope="col">sender</th>
                  <th scope="col">last</th>
                </tr>
              </thead>
              <tbody>
                {answer.set_aside.map((a) => (
                  <tr key={[a.service, a.host, a.sender, a.cause, a.lane].join(" ")}>
                    <td className="number">{number(a.events)}</td>
                    <td>
                      <Cause cause={a.cause} />
                    </td>
                    <td>{a.service || <Muted>none sent</Muted>}</td>
                    <td>{a.host || <Muted>none sent</Muted>}</td>
                    <td>{a.sender}</td>
                    <td title={moment(a.last, zone)}>{ago(parseNs(a.last))}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </div>
        </>
      )}
      <h1>Refused</h1>
      {answer?.refused.length === 0 && (
        <p>
          <Muted>Nothing was refused in this time.</Muted>
        </p>
      )}
      {answer && answer.refused.length > 0 && (
        <div className="wide">
          <Table aria-label="Refused">
            <thead>
              <tr>
                <th scope="col" className="number">
                  refused
                </th>
                <th scope="col">why</th>
                <th scope="col">sender</th>
                <th scope="col">last</th>
                <th scope="col">the latest</th>
              </tr>
            </thead>
            <tbody>
              {answer.refused.map((r) => (
                <tr key={`${r.sender} ${r.reason}`}>
                  <td className="number">{number(r.refused)}</td>
                  <td>{r.reason}</td>
                  <td>{r.sender}</td>
                  <td title={moment(r.last, zone)}>{ago(parseNs(r.last))}</td>
                  <td>
                    <Mono>{r.sample ?? ""}</Mono>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <WaysIn />
      <Muted>
        The same in the terminal: <Mono>{terminal}</Mono>
      </Muted>
    </Page>
  );
}
