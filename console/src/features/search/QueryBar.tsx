import { useEffect, useRef, useState } from "react";
import styled from "styled-components";
import { ProblemError } from "../../api/client";
import { useKeys } from "../../app/keys";
import { radius, space, type } from "../../app/tokens";
import { Button } from "../../ui/controls";
import type { SearchState } from "./state";

const Bar = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
  padding: ${space.m} ${space.l} ${space.s};
`;

const Entry = styled.input`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: ${space.s} ${space.m};
  font-family: ${type.mono};
  min-height: 36px;
`;

const QueryEntry = styled(Entry)`
  flex: 1 1 260px;
  min-width: 0;
`;

const TimeEntry = styled(Entry)`
  flex: 0 1 190px;
  min-width: 0;
`;

const Choice = styled.select`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 0 ${space.s};
  min-height: 36px;
`;

const Mistakes = styled.ul`
  flex-basis: 100%;
  list-style: none;
  margin: 0;
  padding: 0 0 0 ${space.m};
  color: ${(p) => p.theme.severity.error};
  pre {
    margin: 0;
    font-family: ${type.mono};
  }
`;

const SPANS: [string, string][] = [
  ["now-15m", "last 15 min"],
  ["now-1h", "last hour"],
  ["now-6h", "last 6 hours"],
  ["now-1d", "last day"],
  ["now-7d", "last 7 days"],
];

/** Query and range. Mistakes stand under the character they are about, with their cure. */
export function QueryBar(props: {
  state: SearchState;
  change: (c: Partial<SearchState>) => void;
  error: Error | null;
}) {
  const { state, change, error } = props;
  const [draft, setDraft] = useState(state);
  const query = useRef<HTMLInputElement>(null);
  useEffect(() => setDraft(state), [state]);
  useKeys({ "/": () => query.current?.select() });
  const quick = draft.to === "now" && SPANS.some(([from]) => from === draft.from) ? draft.from : "";
  const mistakes = error instanceof ProblemError ? error.mistakes : [];
  return (
    <Bar
      role="search"
      onSubmit={(e) => {
        e.preventDefault();
        change({ query: draft.query, from: draft.from, to: draft.to });
      }}
    >
      <QueryEntry
        ref={query}
        aria-label="Query"
        aria-invalid={mistakes.length > 0}
        placeholder='severity>=warn service=slots "ran out"'
        spellCheck={false}
        autoComplete="off"
        value={draft.query}
        onChange={(e) => setDraft({ ...draft, query: e.target.value })}
      />
      <Choice
        aria-label="Quick range"
        value={quick}
        onChange={(e) => e.target.value && change({ query: draft.query, from: e.target.value, to: "now" })}
      >
        <option value="">from … to</option>
        {SPANS.map(([from, name]) => (
          <option key={from} value={from}>
            {name}
          </option>
        ))}
      </Choice>
      <TimeEntry
        aria-label="From"
        value={draft.from}
        spellCheck={false}
        onChange={(e) => setDraft({ ...draft, from: e.target.value })}
      />
      <TimeEntry
        aria-label="To"
        value={draft.to}
        spellCheck={false}
        onChange={(e) => setDraft({ ...draft, to: e.target.value })}
      />
      <Button type="submit" $chief>
        Search
      </Button>
      {mistakes.length > 0 && (
        <Mistakes role="alert">
          {mistakes.map((m) => (
            <li key={`${m.column} ${m.message}`}>
              <pre aria-hidden>{" ".repeat(m.column - 1) + "^".repeat(Math.min(m.length, 80))}</pre>
              {m.message}; {m.cure}
            </li>
          ))}
        </Mistakes>
      )}
    </Bar>
  );
}
