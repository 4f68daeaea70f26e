import styled from "styled-components";
import { clock, date, parseNs } from "../../api/time";
import type { AlertMessage } from "../../api/types";
import { space, type } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Muted } from "../../ui/controls";
import { recipient, triesOf } from "./model";

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  li {
    margin-bottom: ${space.s};
    overflow-wrap: anywhere;
  }
  ol {
    font-size: ${type.small};
    margin: ${space.xs} 0;
  }
`;

const State = styled.span<{ $state: string }>`
  color: ${(p) => (p.$state === "sent" ? "inherit" : p.$state === "waiting" ? p.theme.muted : p.theme.severity.warn)};
`;

/** Messages, each with its tries. */
export function Tries({ messages }: { messages: AlertMessage[] }) {
  const { zone } = useZone();
  const at = (text: string, digits = 0) =>
    `${date(parseNs(text), zone).slice(5)} ${clock(parseNs(text), zone, digits)}`;
  return (
    <List>
      {messages.map((message) => (
        <li key={message.id}>
          {message.rule && `${message.rule}: `}
          {message.what} to {recipient(message)} <Muted>by {message.kind}</Muted>:{" "}
          <State $state={message.state}>{message.state}</State> <Muted>{at(message.due)}</Muted>
          {triesOf(message) && (
            <details>
              <summary>{triesOf(message)}</summary>
              <ol>
                {message.tries.map((tried) => (
                  <li key={tried.at}>
                    {at(tried.at, 3)} {tried.error || "arrived"}
                  </li>
                ))}
              </ol>
            </details>
          )}
        </li>
      ))}
    </List>
  );
}
