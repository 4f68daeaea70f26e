import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled, { useTheme } from "styled-components";
import { api } from "../../api/client";
import { ago, moment, parseNs } from "../../api/time";
import type { Rule } from "../../api/types";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Mono, Muted, Problem } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Around } from "../alerts/Around";
import { figure, stretches } from "./model";

const State = styled.span<{ $state: string }>`
  color: ${(p) =>
    p.$state === "raised" ? p.theme.severity.error : p.$state === "quiet" ? p.theme.muted : p.theme.severity.warn};
  font-weight: 650;
`;

const Sentence = styled.div`
  max-width: 520px;
  overflow-wrap: anywhere;
`;

const Stray = styled.div`
  color: ${(p) => p.theme.severity.warn};
  max-width: 320px;
  overflow-wrap: anywhere;
`;

const Tall = styled(Table)`
  td {
    vertical-align: top;
    padding-top: ${space.s};
  }
`;

const WIDTH = 168;
const HEIGHT = 14;

/** The last seven days of a rule: when it was raised. */
function Week({ rule }: { rule: Rule }) {
  const theme = useTheme();
  const raised = stretches(rule.lately, Date.now() * 1e6);
  const days = Array.from({ length: 6 }, (_, n) => ((n + 1) * WIDTH) / 7);
  const count =
    rule.lately.length >= 100 ? "100 times or more" : raised.length === 1 ? "once" : `${raised.length} times`;
  return (
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label={`raised ${count} in seven days`}>
      <rect width={WIDTH} height={HEIGHT} fill={theme.raised} />
      {days.map((x) => (
        <line key={x} x1={x} x2={x} y1={0} y2={HEIGHT} stroke={theme.line} />
      ))}
      {raised.map((one, n) => (
        <rect
          key={n}
          x={one.from * WIDTH}
          width={Math.max((one.to - one.from) * WIDTH, 2)}
          height={HEIGHT}
          fill={theme.severity.error}
        />
      ))}
    </svg>
  );
}

/** The rules with their states and their last week. */
export default function RulesPage() {
  const { zone } = useZone();
  const rules = useQuery({ queryKey: ["rules"], queryFn: ({ signal }) => api.rules(signal), refetchInterval: 5000 });
  return (
    <Page>
      {rules.error && <Problem>{rules.error.message}</Problem>}
      <h1>Rules</h1>
      <Around here="/rules" />
      {rules.data?.length === 0 && (
        <p>
          <Muted>No rule yet.</Muted>
        </p>
      )}
      {rules.data && rules.data.length > 0 && (
        <div className="wide">
          <Tall aria-label="Rules">
            <thead>
              <tr>
                <th scope="col">rule</th>
                <th scope="col">state</th>
                <th scope="col">seven days</th>
                <th scope="col" className="number">
                  value
                </th>
                <th scope="col">raised</th>
                <th scope="col">judged</th>
              </tr>
            </thead>
            <tbody>
              {rules.data.map((r) => (
                <tr key={r.id}>
                  <td>
                    <Link to={`/rules/${encodeURIComponent(r.name)}`}>{r.name}</Link>
                  </td>
                  <td>
                    <State $state={r.state}>{r.state}</State>
                    {r.condition && (
                      <Stray>
                        {r.condition}: {r.note}
                      </Stray>
                    )}
                    {!r.condition && r.note && <Stray>{r.note}</Stray>}
                    {r.muted.map((mute) => (
                      <Stray key={mute.where}>
                        muted{mute.where && ` of ${mute.where}`} until {moment(mute.until, zone)} by {mute.by}:{" "}
                        {mute.why}
                      </Stray>
                    ))}
                    {r.groups.length > 0 && r.groups[0]?.name !== "" && (
                      <Muted as="div">{r.groups.map((group) => group.name).join(", ")}</Muted>
                    )}
                  </td>
                  <td>
                    <Week rule={r} />
                  </td>
                  <td className="number">{figure(r.value, r.unit)}</td>
                  <td>
                    <Sentence>{r.sentence}</Sentence>
                  </td>
                  <td>
                    <Muted>{r.judged ? ago(parseNs(r.judged)) : "not yet"}</Muted>
                  </td>
                </tr>
              ))}
            </tbody>
          </Tall>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex rule list</Mono>
      </Muted>
    </Page>
  );
}
