import { Link } from "react-router";
import styled from "styled-components";
import { clock, type Zone } from "../../api/time";
import { space } from "../../app/tokens";
import { Muted, Quiet } from "../../ui/controls";
import { Opens } from "../../ui/popover";
import type { Bin } from "./bins";

export const Facts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 2px ${space.m};
  align-items: baseline;
  padding: 0 ${space.l} ${space.s};
  border-bottom: 1px solid ${(p) => p.theme.line};
  color: ${(p) => p.theme.muted};
  strong {
    color: ${(p) => p.theme.text};
  }
  @media (max-width: 600px) {
    flex-wrap: nowrap;
    overflow-x: auto;
    scrollbar-width: none;
    white-space: nowrap;
  }
`;

/** Views are tabs: one of them is shown. */
export const Views = styled.span`
  display: inline-flex;
  gap: ${space.xs};
`;

export const View = styled(Quiet)`
  border-radius: 0;
  border-bottom: 2px solid ${(p) => (p.$on ? p.theme.accent : "transparent")};
  font-weight: ${(p) => (p.$on ? 650 : 400)};
`;

/** Switches look like switches: each is on or off. */
export const Switches = styled.span`
  display: inline-flex;
  gap: ${space.s};
`;

export const Switch = styled(Quiet)`
  &::before {
    content: "";
    display: inline-block;
    width: 16px;
    height: 8px;
    margin-right: 5px;
    border: 1px solid ${(p) => p.theme.muted};
    border-radius: 5px;
    box-shadow: inset ${(p) => (p.$on ? "-8px" : "8px")} 0 0 ${(p) => (p.$on ? p.theme.accent : p.theme.muted)};
  }
`;

export const Follow = styled(Link)`
  color: ${(p) => p.theme.muted};
  text-decoration: none;
  &:hover {
    color: ${(p) => p.theme.accent};
  }
`;

/** How far an answer is, while it is waited for. */
export const Progress = styled.div`
  height: 2px;
  background: ${(p) => p.theme.line};
  > div {
    height: 100%;
    background: ${(p) => p.theme.accent};
  }
`;

const Table = styled.table`
  font-variant-numeric: tabular-nums;
  th,
  td {
    text-align: right;
    padding: 0 ${space.s};
    font-weight: 400;
  }
`;

/** The same counts as the spine draws, to be read. */
export function CountTable({ bins, zone }: { bins: Bin[]; zone: Zone }) {
  const names = bins[0]?.parts.map((p) => p.name) ?? [];
  return (
    <Opens name="counts" label="Events over time">
      {() => (
        <Table data-testid="counts">
          <thead>
            <tr>
              <th scope="col">from</th>
              {[...names, "errors", "all"].map((name) => (
                <th key={name} scope="col">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {bins.map((bin) => (
              <tr key={String(bin.start)}>
                <th scope="row">{clock(bin.start, zone, 0)}</th>
                {bin.parts.map((part) => (
                  <td key={part.name}>{part.count}</td>
                ))}
                <td>{bin.errors}</td>
                <td>{bin.total}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </Opens>
  );
}

const Names = styled.span`
  display: inline-flex;
  flex-wrap: wrap;
  gap: ${space.s};
  span::before {
    content: "";
    display: inline-block;
    width: 9px;
    height: 9px;
    margin-right: 4px;
    background: var(--colour);
  }
`;

/** What the colours of a stacked spine mean. */
export function Legend({ by, names }: { by: string; names: { name: string; colour: string }[] }) {
  return (
    <Names data-testid="legend">
      <Muted>by {by}:</Muted>
      {names.map((n) => (
        <span key={n.name} style={{ ["--colour" as string]: n.colour }}>
          {n.name.length > 28 ? `${n.name.slice(0, 27)}…` : n.name}
        </span>
      ))}
    </Names>
  );
}
