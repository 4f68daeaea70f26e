import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Input, Label, ListBox, ListBoxItem, SearchField, Autocomplete, useFilter } from "react-aria-components";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { api } from "../api/client";
import { Asks } from "../ui/popover";
import { radius, space } from "./tokens";

const PLACES: [string, string][] = [
  ["Now", "/now"],
  ["Search", "/search"],
  ["Tail", "/tail"],
  ["Story", "/story"],
  ["Compare", "/compare"],
  ["Alerts", "/alerts"],
  ["Rules", "/rules"],
  ["Contacts", "/contacts"],
  ["Intake: arrivals", "/intake"],
  ["Intake: keys", "/intake/keys"],
  ["Intake: transforms", "/intake/transforms"],
  ["Intake: dials", "/intake/dials"],
  ["Intake: fields and ties", "/intake/fields"],
  ["Intake: nodes", "/intake/nodes"],
  ["People: you", "/people"],
  ["People: grants", "/people/grants"],
  ["People: everybody", "/people/all"],
  ["People: teams", "/people/teams"],
  ["People: audit trail", "/people/trail"],
];

const Line = styled(Input)`
  width: 100%;
  background: ${(p) => p.theme.ground};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: ${space.s} ${space.m};
`;

const Places = styled(ListBox)`
  margin-top: ${space.s};
  max-height: 50vh;
  overflow: auto;
  outline: none;
`;

const Place = styled(ListBoxItem)`
  padding: 5px ${space.m};
  border-radius: ${radius};
  cursor: pointer;
  outline: none;
  &[data-focused] {
    background: ${(p) => p.theme.chosen};
  }
`;

/** Every place, saved search, and the story of whatever id is typed, by Ctrl K. */
export function GoTo() {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const { contains } = useFilter({ sensitivity: "base" });
  const saved = useQuery({ queryKey: ["saved"], enabled: open, queryFn: ({ signal }) => api.saved(signal) });
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== "k") return;
      e.preventDefault();
      setTyped("");
      setOpen(true);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const searches = (saved.data ?? []).map((s) => {
    const range: Record<string, string> = s.from ? { from: s.from, to: s.to ?? "now" } : {};
    return [`Search: ${s.name}`, `/search?${new URLSearchParams({ q: s.query, ...range })}`] as [string, string];
  });
  // An id is one word with a digit in it.
  const id = /^\S*\d\S*$/.test(typed.trim()) ? typed.trim() : "";
  const stories: [string, string][] = id ? [[`Story of ${id}`, `/story/${encodeURIComponent(id)}`]] : [];
  const all = [...stories, ...PLACES, ...searches];
  return (
    <Asks open={open} title="Go to" onClose={() => setOpen(false)}>
      <Autocomplete filter={contains} inputValue={typed} onInputChange={setTyped}>
        <SearchField autoFocus aria-label="Place, saved search or id">
          <Label style={{ display: "none" }}>Place, saved search or id</Label>
          <Line />
        </SearchField>
        <Places
          aria-label="Places"
          onAction={(to) => {
            setOpen(false);
            void navigate(String(to));
          }}
        >
          {all.map(([name, to]) => (
            <Place key={to} id={to} textValue={name}>
              {name}
            </Place>
          ))}
        </Places>
      </Autocomplete>
    </Asks>
  );
}
