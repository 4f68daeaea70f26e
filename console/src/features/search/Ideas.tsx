import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import type { SavedSearch } from "../../api/types";
import { space, type } from "../../app/tokens";
import { Button, Field, Muted, Problem, Quiet } from "../../ui/controls";
import { Asks, Opens } from "../../ui/popover";
import { recentQueries } from "./recent";
import type { Change, SearchState } from "./state";

/** Questions that have an answer on any data. */
const STARTERS: [string, string][] = [
  ["severity>=error", "every error"],
  ["severity>=error measure count per service", "errors by service"],
  ["measure count per severity every 5m", "how much, and how bad"],
  ["kind=span measure p95(took), count per service", "how long spans take"],
  ["severity>=warn measure count per shape top 20", "the commonest warnings"],
  ["has mark", "marks: what was changed"],
];

const Entry = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto auto;
  align-items: baseline;
  gap: ${space.m};
  button:first-child {
    text-align: left;
    font-family: ${type.mono};
    font-size: ${type.small};
    overflow-wrap: anywhere;
    color: ${(p) => p.theme.text};
    margin-left: -${space.xs};
  }
`;

/** Starters, saved searches and what was asked lately. */
export function Ideas({ change }: { change: Change }) {
  return (
    <Opens name="ideas" label="Searches to start from">
      {(close) => <IdeaList change={change} close={close} />}
    </Opens>
  );
}

function IdeaList({ change, close }: { change: Change; close: () => void }) {
  const queries = useQueryClient();
  const saved = useQuery({ queryKey: ["saved"], queryFn: ({ signal }) => api.saved(signal) });
  const run = (search: Partial<SearchState>) => {
    change(search);
    close();
  };
  const open = (s: SavedSearch) =>
    run({
      query: s.query,
      ...(s.from ? { from: s.from, to: s.to ?? "now" } : {}),
      ...(s.columns ? { columns: s.columns } : {}),
    });
  const recent = recentQueries().slice(0, 10);
  return (
    <>
      <h2>Saved</h2>
      {saved.error && <Problem>{saved.error.message}</Problem>}
      {saved.data?.length === 0 && <Muted>None yet; “save” keeps the search you are in.</Muted>}
      {saved.data?.map((s) => (
        <Entry key={s.name}>
          <Quiet onPress={() => open(s)}>{s.name}</Quiet>
          <Muted title={s.query}>{s.note || s.query.slice(0, 40)}</Muted>
          <span>
            <Muted>{s.owner}</Muted>{" "}
            {s.mine && (
              <Quiet
                aria-label={`Remove ${s.name}`}
                onPress={() =>
                  void api.removeSaved(s.name).then(() => queries.invalidateQueries({ queryKey: ["saved"] }))
                }
              >
                remove
              </Quiet>
            )}
          </span>
        </Entry>
      ))}
      {recent.length > 0 && <h2>Asked lately</h2>}
      {recent.map((query) => (
        <Entry key={query}>
          <Quiet onPress={() => run({ query })}>{query}</Quiet>
        </Entry>
      ))}
      <h2>To start with</h2>
      {STARTERS.map(([query, what]) => (
        <Entry key={query}>
          <Quiet onPress={() => run({ query })}>{query}</Quiet>
          <Muted>{what}</Muted>
        </Entry>
      ))}
    </>
  );
}

/** Keeps the search one is in, under a name that everybody sees. */
export function SaveSearch({ state }: { state: SearchState }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const [fixed, setFixed] = useState(false);
  const [problem, setProblem] = useState("");
  const save = async () => {
    try {
      const range = fixed ? { from: state.from, to: state.to } : {};
      await api.save({ name: name.trim(), query: state.query, note, columns: state.columns || undefined, ...range });
      await queries.invalidateQueries({ queryKey: ["saved"] });
      setOpen(false);
      setProblem("");
    } catch (e) {
      setProblem(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <>
      <Quiet onPress={() => setOpen(true)}>save</Quiet>
      <Asks open={open} title="Save this search" onClose={() => setOpen(false)}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void save();
          }}
        >
          <Muted>
            <code>{state.query || "(every event)"}</code>
          </Muted>
          <Field label="Name" name="saved-name" value={name} onChange={setName} autoFocus />
          <Field label="What it is good for" name="saved-note" value={note} onChange={setNote} optional />
          <label>
            <input type="checkbox" checked={fixed} onChange={(e) => setFixed(e.target.checked)} /> with its range,{" "}
            {state.from} to {state.to}
          </label>
          {problem && <Problem>{problem}</Problem>}
          <div style={{ display: "flex", gap: space.s }}>
            <Button type="submit" $chief>
              Save
            </Button>
            <Button onPress={() => setOpen(false)}>Leave</Button>
          </div>
        </form>
      </Asks>
    </>
  );
}
