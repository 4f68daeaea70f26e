import styled from "styled-components";
import { useState } from "react";
import { Button } from "../ui/controls";
import { Asks } from "../ui/popover";
import { keysOn, turnKeys } from "./keys";
import { space, type } from "./tokens";

const List = styled.dl`
  display: grid;
  grid-template-columns: auto 1fr;
  gap: ${space.xs} ${space.l};
  margin: 0 0 ${space.l};
  dt {
    font-family: ${type.mono};
    color: ${(p) => p.theme.accent};
  }
  dd {
    margin: 0;
  }
`;

const KEYS: [string, string][] = [
  ["/", "to the query"],
  ["j  k", "next and previous row"],
  ["Enter", "open the row"],
  ["s", "its story"],
  ["x", "pick the row, to be copied"],
  ["[  ]", "earlier and later by one range"],
  ["f", "fields found, and their values"],
  ["v", "events, the shapes of their messages, failures by problem"],
  ["w", "wrap long messages"],
  ["Ctrl Space", "proposals, in the query"],
  ["Ctrl K", "go anywhere"],
  ["u", "UTC or local time"],
  ["Esc", "close what is open"],
  ["?", "this list"],
];

/** The keys, to be read. */
export function KeyList({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [on, setOn] = useState(keysOn);
  return (
    <Asks open={open} title="Keys" onClose={onClose}>
      <List>
        {KEYS.map(([key, what]) => (
          <div key={key} style={{ display: "contents" }}>
            <dt>{key}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </List>
      <p>
        <label>
          <input
            type="checkbox"
            checked={on}
            onChange={(e) => {
              turnKeys(e.target.checked);
              setOn(e.target.checked);
            }}
          />{" "}
          single keys do this
        </label>
      </p>
      <Button onPress={onClose}>Close</Button>
    </Asks>
  );
}
