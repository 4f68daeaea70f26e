import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import type { RuleDocument } from "../../api/types";
import { space, type } from "../../app/tokens";
import { useMakesRules, useMe } from "../../app/session";
import { Button, Choice, LinesField, Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { useAsked } from "../search/asked";
import { asToml, documentOf, isDraggable, withBound } from "./model";
import { MuteForm } from "./MuteForm";
import { Rehearsed } from "./Rehearsed";
import { SentenceForm } from "./SentenceForm";
import { Versions } from "./Versions";

const Head = styled.div`
  h1 {
    margin-bottom: ${space.xs};
  }
  p {
    margin: 0 0 ${space.m};
    font-size: ${type.body};
    overflow-wrap: anywhere;
  }
`;

const Columns = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 420px) minmax(0, 1fr);
  gap: ${space.xl};
  align-items: start;
  textarea {
    width: 100%;
    font-family: ${type.mono};
    font-size: ${type.small};
  }
  h2 {
    font-size: ${type.body};
    margin: ${space.l} 0 ${space.s};
  }
  ul {
    margin: ${space.s} 0;
    padding-left: ${space.l};
  }
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Acts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.m};
  align-items: end;
  margin-top: ${space.m};
`;

const DAYS = [
  ["1", "a day"],
  ["7", "7 days"],
  ["9", "9 days"],
  ["30", "30 days"],
] as const;

/** What a rule is begun with. */
const EMPTY = { name: "new rule", threshold: { events: "severity>=error", over: "5m", above: 20 } } as RuleDocument;

/** How long typing rests before the document is looked at. */
const REST_MS = 250;

function useRested<T>(value: T): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), REST_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return rested;
}

/** A rule as a document, and beside it what it would have done. */
export default function RulePage() {
  const { name } = useParams();
  const [params] = useSearchParams();
  const makes = useMakesRules();
  const me = useMe();
  const [team, setTeam] = useState("");
  const navigate = useNavigate();
  const queries = useQueryClient();
  const rules = useQuery({ queryKey: ["rules"], queryFn: ({ signal }) => api.rules(signal) });
  const known = rules.data?.find((rule) => rule.name === name);
  const asked = useAsked(params.get("q") ?? "");
  // As a sentence until somebody wants the document; each keeps what the other made.
  const [draft, setDraft] = useState<RuleDocument>();
  const [typed, setTyped] = useState<string>();
  const [days, setDays] = useState("7");
  const [applied, setApplied] = useState("");
  const [failure, setFailure] = useState("");
  const begun: RuleDocument | undefined = name ? known?.document : params.get("q") ? asked && documentOf(asked) : EMPTY;
  const shown = draft ?? begun;
  const text = typed ?? (shown ? asToml(shown) : "");
  const rested = useRested(text);
  const check = useQuery({
    queryKey: ["rule-check", rested],
    queryFn: ({ signal }) => api.checkRule(rested, signal),
    enabled: rested.trim() !== "",
    placeholderData: keepPreviousData,
  });
  const mistakes = check.data?.mistakes ?? [];
  const document = check.data?.document;
  const [until, setUntil] = useState<string>();
  const rehearsal = useQuery({
    queryKey: ["rehearse", rested, days, until],
    queryFn: ({ signal }) => api.rehearse({ document: rested, days: Number(days), until }, signal),
    enabled: check.isSuccess && !check.isPlaceholderData && mistakes.length === 0,
    placeholderData: keepPreviousData,
    staleTime: 60_000,
  });
  const end = rehearsal.data?.range.to;
  // The same stretch again, so that its values are at hand.
  useEffect(() => {
    if (end && !until) setUntil(end);
  }, [end, until]);
  const apply = async () => {
    setFailure("");
    try {
      const done = await api.applyRule({ document: text, dry_run: false, ...(team ? { team } : {}) });
      setApplied(`${done.name} is ${done.what === "as it was" ? "as it was" : done.what}`);
      await queries.invalidateQueries({ queryKey: ["rules"] });
      await queries.invalidateQueries({ queryKey: ["rule-versions"] });
      if (!name) navigate(`/rules/${encodeURIComponent(done.name)}`, { replace: true });
    } catch (e) {
      setFailure(e instanceof Error ? e.message : String(e));
    }
  };
  const moved = (to: RuleDocument) => (typed === undefined ? setDraft(to) : setTyped(asToml(to)));
  const sentence = check.data?.sentence ?? rehearsal.data?.sentence;
  return (
    <Page>
      <Head>
        <h1>{name ?? "A new rule"}</h1>
        <p data-testid="sentence">{sentence ?? " "}</p>
      </Head>
      {name && rules.data && !known && <Problem>There is no rule of this name.</Problem>}
      <Columns>
        <section aria-label="Document">
          {typed === undefined && shown ? (
            <>
              <SentenceForm document={shown} isNew={!name} onChange={setDraft} />
              <Quiet onPress={() => setTyped(text)}>as a document</Quiet>
            </>
          ) : (
            <>
              <LinesField label="document" value={text} rows={18} onChange={setTyped} />
              <Quiet
                isDisabled={!document || mistakes.length > 0}
                onPress={() => {
                  setDraft(document ?? undefined);
                  setTyped(undefined);
                }}
              >
                as a sentence
              </Quiet>
            </>
          )}
          {mistakes.length > 0 && (
            <div role="alert">
              <ul>
                {mistakes.map((m) => (
                  <li key={`${m.field} ${m.message}`}>
                    {(m.line ?? 0) > 0 && `line ${m.line}: `}
                    {m.field && <Mono>{m.field}</Mono>} {m.message}; <Muted>{m.cure}</Muted>
                  </li>
                ))}
              </ul>
            </div>
          )}
          {failure && <Problem>{failure}</Problem>}
          <Acts>
            <Choice
              label="over the last"
              value={days}
              options={DAYS}
              onChange={(value) => {
                setDays(value);
                setUntil(undefined);
              }}
            />
            {!known && makes && (me?.teams.length ?? 0) > 0 && (
              <Choice
                label="reads as"
                value={team}
                options={[["", "you"], ...(me?.teams ?? []).map((name) => [name, name] as const)]}
                onChange={setTeam}
              />
            )}
            {(known ? known.may_change : makes) && (
              <Button $chief onPress={() => void apply()} isDisabled={mistakes.length > 0 || text.trim() === ""}>
                {known ? "Change the rule" : "Switch it on"}
              </Button>
            )}
            <span role="status">{applied}</span>
          </Acts>
          {known?.may_change && (
            <div>
              <MuteForm rule={known} onDone={() => void queries.invalidateQueries({ queryKey: ["rules"] })} />
            </div>
          )}
          <Muted as="p">
            in the terminal: <Mono>calvex rule rehearse FILE --days {days}</Mono>
          </Muted>
          {known && <Versions id={known.id} />}
        </section>
        <section aria-label="Rehearsal" aria-busy={rehearsal.isFetching}>
          {rehearsal.error && <Problem>{rehearsal.error.message}</Problem>}
          {rehearsal.data && (
            <Rehearsed
              rehearsal={rehearsal.data}
              rule={known?.name}
              onBound={isDraggable(document) && document ? (at) => moved(withBound(document, at)) : undefined}
            />
          )}
        </section>
      </Columns>
    </Page>
  );
}
