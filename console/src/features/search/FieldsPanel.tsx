import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import { space, type } from "../../app/tokens";
import { Muted, Problem, Quiet } from "../../ui/controls";
import { Unseen } from "../../ui/page";
import { Panel } from "./EventDetail";
import { FieldFigures } from "./FieldFigures";
import type { Asked } from "./asked";
import type { Change, SearchState } from "./state";
import { number } from "../../ui/number";

/** Own parts that are worth counting. */
const OWN = ["severity", "service", "host", "lane", "kind", "sender", "status", "took"];

const Filter = styled.input`
  width: 100%;
  background: ${(p) => p.theme.ground};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: 4px;
  padding: 4px ${space.s};
  margin-bottom: ${space.s};
`;

const Row = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto 44px;
  gap: ${space.s};
  align-items: baseline;
  font-variant-numeric: tabular-nums;
  button {
    font-family: ${type.mono};
    font-size: ${type.small};
    text-align: left;
    overflow: hidden;
    text-overflow: ellipsis;
    margin-left: -${space.xs};
  }
  span:last-child {
    text-align: right;
  }
`;

/** The fields among the events found; one opened shows its values. */
export function FieldsPanel(props: {
  state: SearchState;
  asked: Asked | undefined;
  range: { from: string; to: string } | undefined;
  change: Change;
  onNarrow: (condition: string) => void;
  onColumn: (field: string) => void;
}) {
  const { state, asked, range, change } = props;
  const filter = asked?.filter ?? "";
  const [wanted, setWanted] = useState("");
  const fields = useQuery({
    queryKey: ["found fields", filter, range],
    enabled: range !== undefined && asked !== undefined,
    queryFn: ({ signal }) => api.foundFields({ query: filter, ...range }, signal),
    placeholderData: keepPreviousData,
  });
  const answer = fields.data;
  const share = (having: number) => `${Math.round((having / Math.max(answer?.events ?? 1, 1)) * 100)} %`;
  const matches = (name: string) => name.toLowerCase().includes(wanted.toLowerCase());
  const row = (field: string, types: string, reported: string) => (
    <div key={field}>
      <Row>
        <Quiet
          $on={state.field === field}
          aria-expanded={state.field === field}
          onPress={() => change({ field: state.field === field ? "" : field })}
        >
          {field}
        </Quiet>
        <Muted>{types}</Muted>
        <Muted>{reported}</Muted>
      </Row>
      {state.field === field && range && asked && (
        <FieldFigures
          field={field}
          asked={asked}
          range={range}
          by={state.by}
          onStack={(by) => change({ by })}
          onNarrow={props.onNarrow}
          onColumn={props.onColumn}
        />
      )}
    </div>
  );
  return (
    <Panel aria-label="Fields" data-testid="fields">
      <Unseen as="h2" style={{ overflow: "clip" }}>
        Fields
      </Unseen>
      <div style={{ display: "flex", justifyContent: "space-between" }}>
        <h3>Fields found{answer && !answer.whole && ` in the newest ${number(answer.events)} events`}</h3>
        <Quiet onPress={() => change({ fields: "", field: "" })}>close</Quiet>
      </div>
      <Filter
        aria-label="Fields named"
        placeholder="fields named …"
        value={wanted}
        onChange={(e) => setWanted(e.target.value)}
      />
      {fields.error && <Problem>{fields.error.message}</Problem>}
      {fields.isPending && <Muted>Looking …</Muted>}
      {answer?.fields.filter((f) => matches(f.field)).map((f) => row(f.field, f.types.join(", "), share(f.having)))}
      {answer?.fields.length === 0 && <Muted>The events found were sent without fields.</Muted>}
      <h3>Of every event</h3>
      {OWN.filter(matches).map((field) => row(field, "", ""))}
    </Panel>
  );
}
