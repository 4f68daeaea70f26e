import { useEffect, useRef, useState } from "react";
import styled from "styled-components";
import { ProblemError } from "../../api/client";
import type { CheckAnswer } from "../../api/types";
import { useKeys } from "../../app/keys";
import { space } from "../../app/tokens";
import { Button, Quiet } from "../../ui/controls";
import { Ideas, SaveSearch } from "./Ideas";
import { LazyQueryField } from "./LazyQueryField";
import type { QueryFieldHandle } from "./QueryField";
import { RangeBar } from "./RangeBar";
import { keepRecent } from "./recent";
import type { Change, SearchState } from "./state";

const Bar = styled.form`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${space.s};
  padding: ${space.m} ${space.l} ${space.s};
`;

const Mistakes = styled.ul`
  flex-basis: 100%;
  list-style: none;
  margin: 0;
  padding: 0 0 0 ${space.m};
  li.mistake {
    color: ${(p) => p.theme.severity.error};
  }
  li.warning {
    color: ${(p) => p.theme.severity.warn};
  }
`;

/** Query and range, with their mistakes and what to do about them. */
export function QueryBar(props: {
  state: SearchState;
  change: Change;
  error: Error | null;
  /** The range as it was understood. */
  range?: { from: string; to: string };
}) {
  const { state, change, error } = props;
  const [draft, setDraft] = useState(state.query);
  const [looked, setLooked] = useState<CheckAnswer>();
  const query = useRef<QueryFieldHandle>(null);
  useEffect(() => setDraft(state.query), [state.query]);
  useKeys({ "/": () => query.current?.focus() });
  const asked = error instanceof ProblemError && draft === state.query ? error.mistakes : [];
  const mistakes = looked?.mistakes.length ? looked.mistakes : asked;
  const submit = (text: string) => {
    keepRecent(text);
    change({ query: text });
  };
  return (
    <div>
      <Bar
        role="search"
        onSubmit={(e) => {
          e.preventDefault();
          submit(draft);
        }}
      >
        <LazyQueryField
          handle={query}
          value={draft}
          invalid={mistakes.length > 0}
          range={{ from: state.from, to: state.to }}
          onChange={setDraft}
          onSubmit={submit}
          onLook={setLooked}
        />
        <Button type="submit" $chief>
          Search
        </Button>
        <Ideas change={change} />
        <SaveSearch state={state} />
        {looked && looked.mistakes.length === 0 && looked.canonical !== draft && (
          <Quiet onPress={() => setDraft(looked.canonical)}>format</Quiet>
        )}
        {mistakes.length + (looked?.warnings.length ?? 0) > 0 && (
          <Mistakes role="alert">
            {mistakes.slice(0, 4).map((m) => (
              <li key={`${m.column} ${m.message}`} className="mistake">
                column {m.column}: {m.message}; {m.cure}
              </li>
            ))}
            {looked?.warnings.slice(0, 2).map((m) => (
              <li key={`${m.column} ${m.message}`} className="warning">
                column {m.column}: {m.message}; {m.cure}
              </li>
            ))}
          </Mistakes>
        )}
      </Bar>
      <RangeBar state={state} change={change} range={props.range} />
    </div>
  );
}
