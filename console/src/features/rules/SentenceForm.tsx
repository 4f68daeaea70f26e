import { useState } from "react";
import styled from "styled-components";
import type { RuleDocument } from "../../api/types";
import { radius, space, type } from "../../app/tokens";
import { Field } from "../../ui/controls";
import { LazyQueryField } from "../search/LazyQueryField";
import { FORMS, formOf, type FormName } from "./model";
import { AROUND, SENTENCES, shownIn, withForm, withTyped, type Part } from "./sentence";

const Said = styled.div`
  margin-top: ${space.m};
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${space.s};
  margin-bottom: ${space.m};
  line-height: 2;
  select,
  input[type="text"] {
    background: ${(p) => p.theme.raised};
    color: inherit;
    font: inherit;
    border: 1px solid ${(p) => p.theme.line};
    border-radius: ${radius};
    padding: 4px ${space.s};
    min-height: 32px;
    max-width: 100%;
  }
  .query {
    flex: 1 1 100%;
    display: flex;
    min-width: 0;
  }
`;

const Rest = styled.div`
  display: grid;
  gap: ${space.m};
  font-size: ${type.small};
`;

type Filled = Exclude<Part, { word: string }>;

/** A line that keeps what is typed as it is typed, also where the document reads it otherwise. */
function Line(props: { label: string; shown: string; empty?: string; onChange: (text: string) => void }) {
  const [typed, setTyped] = useState<string>();
  const value = typed ?? props.shown;
  const width = Math.min(Math.max(value.length, props.empty?.length ?? 0, 3) + 2, 30);
  return (
    <input
      type="text"
      aria-label={props.label}
      placeholder={props.empty}
      value={value}
      style={{ width: `${width}ch` }}
      spellCheck={false}
      onFocus={() => setTyped(props.shown)}
      onBlur={() => setTyped(undefined)}
      onChange={(e) => {
        setTyped(e.target.value);
        props.onChange(e.target.value);
      }}
    />
  );
}

const NAMES: Record<FormName, string> = {
  threshold: "a measure passes a number",
  share: "a share is too high",
  silence: "something falls silent",
  "first-seen": "something is new",
  deviation: "a measure is not as usual",
  objective: "an objective is missed",
  unfinished: "something does not end",
  "error-group": "a kind of failure is new",
};

/** A rule as a sentence, each part of which can be changed. */
export function SentenceForm(props: {
  document: RuleDocument;
  /** Whether the name can be changed: one that stands keeps its name. */
  isNew: boolean;
  onChange: (document: RuleDocument) => void;
}) {
  const { document, onChange } = props;
  const form = formOf(document) ?? "threshold";
  const change = (part: Filled) => (text: string) => onChange(withTyped(document, part, text));
  const shown = (part: Part, n: number) => {
    if ("word" in part) return <span key={n}>{part.word}</span>;
    const value = shownIn(document, part);
    if (part.kind === "query")
      return (
        <span className="query" key={`${form} ${part.field}`}>
          <LazyQueryField
            value={value}
            label={part.label}
            invalid={false}
            range={{ from: "now-7d", to: "now" }}
            onChange={change(part)}
            onSubmit={() => undefined}
            onLook={() => undefined}
          />
        </span>
      );
    if (part.kind === "choice")
      return (
        <select key={part.field} aria-label={part.label} value={value} onChange={(e) => change(part)(e.target.value)}>
          {part.options?.map(([option, name]) => (
            <option key={option} value={option}>
              {name}
            </option>
          ))}
        </select>
      );
    return (
      <Line key={`${form} ${part.field}`} label={part.label} shown={value} empty={part.empty} onChange={change(part)} />
    );
  };
  const text = (field: "note" | "runbook") => (value: string) =>
    onChange({ ...document, [field]: value } as RuleDocument);
  return (
    <div data-testid="sentence-form">
      {props.isNew && (
        <Field label="name" name="rule" value={document.name} onChange={(name) => onChange({ ...document, name })} />
      )}
      <Said>
        <select
          aria-label="form"
          value={form}
          onChange={(e) => onChange(withForm(document, e.target.value as FormName))}
        >
          {FORMS.map((one) => (
            <option key={one} value={one}>
              {NAMES[one]}
            </option>
          ))}
        </select>
        {SENTENCES[form].map(shown)}
        {AROUND.map((part, n) => shown(part, n + 100))}
      </Said>
      <Rest>
        <Field
          label="for whoever is woken"
          name="note"
          optional
          value={document.note ?? ""}
          onChange={text("note")}
          placeholder="Doors stay shut while this lasts."
        />
        <Field
          label="where it stands what to do"
          name="runbook"
          optional
          mono
          value={document.runbook ?? ""}
          onChange={text("runbook")}
          placeholder="https://docs.fennmark.test/leases"
        />
      </Rest>
    </div>
  );
}
