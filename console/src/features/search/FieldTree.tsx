import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import type { Json } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Quiet } from "../../ui/controls";
import { fieldName, textOf, typeOf } from "./event";
import { literal } from "./state";

const Tree = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  font-family: ${type.mono};
  font-size: ${type.small};
  ul {
    list-style: none;
    margin: 0;
    padding-left: ${space.m};
    border-left: 1px solid ${(p) => p.theme.line};
  }
`;

const Leaf = styled.li`
  display: grid;
  grid-template-columns: minmax(96px, 34%) minmax(0, 1fr) auto;
  gap: 0 ${space.s};
  padding: 2px 0;
  position: relative;
  .name {
    color: ${(p) => p.theme.muted};
    overflow-wrap: anywhere;
  }
  .type {
    color: ${(p) => p.theme.faint};
    font-family: ${type.text};
    font-size: 11px;
  }
  .value {
    overflow-wrap: anywhere;
    white-space: pre-wrap;
    max-height: 12em;
    overflow: auto;
  }
  .number {
    color: ${(p) => p.theme.number};
  }
`;

const Acts = styled.span`
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  font-family: ${type.text};
  margin-left: -${space.xs};
  a {
    color: ${(p) => p.theme.muted};
    padding: 2px ${space.xs};
    text-decoration: none;
  }
  a:hover {
    color: ${(p) => p.theme.accent};
  }
`;

const Name = styled(Quiet)`
  && {
    font-family: ${type.mono};
    padding: 0;
    text-align: left;
    overflow-wrap: anywhere;
  }
`;

/** What can be done from a value. */
export interface ValueActs {
  narrow: (condition: string) => void;
  column: (field: string) => void;
  breakdown: (field: string) => void;
  /** Whether a field's value ties events together. */
  isTie: (field: string) => boolean;
}

/** A value with its name; pressing the name shows what can be done from it. */
export function Value(props: { name: string; field: string; value: Json; acts: ValueActs; reported?: string }) {
  const { name, field, value, acts } = props;
  const [open, setOpen] = useState(false);
  const kind = typeOf(value);
  const text = props.reported ?? textOf(value);
  // A list is found by any of its elements; the first stands for it here.
  const single = Array.isArray(value) ? value.find((v) => v !== null && typeof v !== "object") : value;
  const one = single !== null && single !== undefined && typeof single !== "object";
  const condition = `${field}=${literal(textOf(single))}`;
  return (
    <Leaf>
      <span className="name">
        <Name aria-expanded={open} onPress={() => setOpen(!open)}>
          {name}
        </Name>
      </span>
      <span className={kind === "integer" || kind === "number" ? "value number" : "value"}>{text}</span>
      <span className="type">{kind}</span>
      {open && (
        <Acts>
          {one && (
            <>
              <Quiet aria-label={`Keep only ${condition}`} onPress={() => acts.narrow(condition)}>
                keep only
              </Quiet>
              <Quiet aria-label={`Leave out ${condition}`} onPress={() => acts.narrow(`not ${condition}`)}>
                leave out
              </Quiet>
            </>
          )}
          <Quiet onPress={() => acts.column(field)}>column</Quiet>
          <Quiet onPress={() => acts.breakdown(field)}>break down</Quiet>
          {one && acts.isTie(field) && <Link to={`/story/${encodeURIComponent(textOf(single))}`}>story</Link>}
          <Quiet onPress={() => void navigator.clipboard.writeText(text)}>copy</Quiet>
        </Acts>
      )}
    </Leaf>
  );
}

function Branch(props: { entries: [string, Json][]; above: string; acts: ValueActs }) {
  return props.entries.map(([name, value]) => {
    const path = props.above ? `${props.above}.${name}` : name;
    const inner =
      value !== null && typeof value === "object" && !Array.isArray(value) ? Object.entries(value) : undefined;
    return inner?.length ? (
      <li key={name}>
        <span style={{ opacity: 0.8 }}>{name}</span>
        <ul>
          <Branch entries={inner} above={path} acts={props.acts} />
        </ul>
      </li>
    ) : (
      <Value key={name} name={name} field={fieldName(path)} value={value} acts={props.acts} />
    );
  });
}

/** Fields as they were nested, each with its type. */
export function FieldTree({ fields, acts }: { fields: { [name: string]: Json }; acts: ValueActs }) {
  return (
    <Tree aria-label="Fields">
      <Branch entries={Object.entries(fields)} above="" acts={acts} />
    </Tree>
  );
}

/** The event's builtins, in the same form. */
export function OwnParts({ parts, acts }: { parts: [string, Json, string?][]; acts: ValueActs }) {
  return (
    <Tree aria-label="Own parts">
      {parts.map(([name, value, reported]) => (
        <Value
          key={`${name} ${textOf(value)}`}
          name={name}
          field={name}
          value={value}
          acts={acts}
          reported={reported}
        />
      ))}
    </Tree>
  );
}
