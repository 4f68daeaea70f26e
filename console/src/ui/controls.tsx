import {
  Button as AriaButton,
  Input,
  Label,
  TextArea,
  TextField as AriaTextField,
  type ButtonProps,
} from "react-aria-components";
import styled from "styled-components";
import { radius, space, type } from "../app/tokens";

/** A control that does something. `$chief` marks the one main action of a place. */
export const Button = styled(AriaButton)<ButtonProps & { $chief?: boolean }>`
  border: 1px solid ${(p) => (p.$chief ? p.theme.accent : p.theme.line)};
  border-radius: ${radius};
  background: ${(p) => (p.$chief ? p.theme.accent : "transparent")};
  color: ${(p) => (p.$chief ? p.theme.onAccent : p.theme.text)};
  font-weight: ${(p) => (p.$chief ? 650 : 400)};
  padding: 5px ${space.m};
  min-height: 30px;
  cursor: pointer;
  white-space: nowrap;
  &[data-hovered] {
    border-color: ${(p) => p.theme.accent};
  }
  &[data-disabled] {
    opacity: 0.5;
    cursor: default;
  }
`;

/** A control that reads as text. */
export const Quiet = styled(AriaButton)<{ $on?: boolean }>`
  border: 0;
  background: none;
  padding: 2px ${space.xs};
  color: ${(p) => (p.$on ? p.theme.text : p.theme.muted)};
  cursor: pointer;
  border-radius: ${radius};
  &[data-hovered] {
    color: ${(p) => p.theme.accent};
  }
`;

const Box = styled(AriaTextField)`
  display: grid;
  gap: ${space.xs};
`;

const Entry = styled(Input)<{ $mono?: boolean }>`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 7px ${space.m};
  font-family: ${(p) => (p.$mono ? type.mono : "inherit")};
  width: 100%;
`;

/** A labelled line of text. */
export function Field(props: {
  label: string;
  name: string;
  kind?: "text" | "password";
  value: string;
  onChange: (value: string) => void;
  autoFocus?: boolean;
  optional?: boolean;
  mono?: boolean;
  placeholder?: string;
}) {
  return (
    <Box
      name={props.name}
      type={props.kind ?? "text"}
      value={props.value}
      onChange={props.onChange}
      isRequired={!props.optional}
      autoFocus={props.autoFocus}
    >
      <Label>{props.label}</Label>
      <Entry $mono={props.mono} placeholder={props.placeholder} />
    </Box>
  );
}

const Lines = styled(TextArea)`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 7px ${space.m};
  font-family: ${type.mono};
  font-size: ${type.small};
  width: 100%;
  resize: vertical;
`;

/** A labelled box for several lines of text. */
export function LinesField(props: { label: string; value: string; rows: number; onChange: (value: string) => void }) {
  return (
    <Box value={props.value} onChange={props.onChange}>
      <Label>{props.label}</Label>
      <Lines rows={props.rows} spellCheck={false} />
    </Box>
  );
}

/** A labelled choice among a few words. */
export function Choice(props: {
  label: string;
  value: string;
  options: readonly (readonly [string, string])[];
  onChange: (value: string) => void;
}) {
  return (
    <Chosen>
      {props.label}
      <Select value={props.value} onChange={(e) => props.onChange(e.target.value)}>
        {props.options.map(([value, name]) => (
          <option key={value} value={value}>
            {name}
          </option>
        ))}
      </Select>
    </Chosen>
  );
}

const Chosen = styled.label`
  display: grid;
  gap: ${space.xs};
`;

/** A choice among a few words without a label that is seen: it needs an `aria-label`. */
export const Select = styled.select`
  background: ${(p) => p.theme.raised};
  color: inherit;
  font: inherit;
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 6px ${space.m};
  min-height: 34px;
`;

export const Muted = styled.span`
  color: ${(p) => p.theme.muted};
`;

export const Mono = styled.span`
  font-family: ${type.mono};
  font-size: ${type.small};
`;

/** What went wrong, and the next step. */
export const Problem = styled.p.attrs({ role: "alert" })`
  border-left: 3px solid ${(p) => p.theme.severity.error};
  background: ${(p) => p.theme.raised};
  padding: ${space.m};
  margin: ${space.m} ${space.l};
  align-self: start;
`;
