import { useState } from "react";
import styled from "styled-components";
import { api } from "../../api/client";
import { moment } from "../../api/time";
import type { Rule } from "../../api/types";
import { space } from "../../app/tokens";
import { useZone } from "../../app/zone";
import { Button, Choice, Field, Problem, Quiet } from "../../ui/controls";
import { Opens } from "../../ui/popover";

const Form = styled.form`
  display: grid;
  gap: ${space.m};
  width: 300px;
`;

const LENGTHS = [
  ["30m", "for 30 minutes"],
  ["2h", "for 2 hours"],
  ["8h", "for 8 hours"],
  ["1d", "for a day"],
  ["7d", "for a week"],
] as const;

/** What is muted of a rule, and more to be muted. */
export function MuteForm({ rule, onDone }: { rule: Pick<Rule, "id" | "muted">; onDone: () => void }) {
  const { zone } = useZone();
  const [length, setLength] = useState("2h");
  const [why, setWhy] = useState("");
  const [filter, setFilter] = useState("");
  const [failure, setFailure] = useState("");
  const done = async (act: Promise<void>) => {
    try {
      await act;
      setFailure("");
      onDone();
      return true;
    } catch (e) {
      setFailure(e instanceof Error ? e.message : String(e));
      return false;
    }
  };
  return (
    <>
      {rule.muted.map((mute) => (
        <p key={mute.where}>
          Nobody is notified{mute.where && ` of ${mute.where}`} until {moment(mute.until, zone)}: {mute.why} ({mute.by}){" "}
          <Quiet onPress={() => void done(api.muteRule(rule.id, mute.where ? { where: mute.where } : {}))}>
            end it
          </Quiet>
        </p>
      ))}
      <Opens name="mute" label="Notify nobody for a while">
        {(close) => (
          <Form
            onSubmit={(e) => {
              e.preventDefault();
              const ask = { for: length, why, ...(filter ? { where: filter } : {}) };
              void done(api.muteRule(rule.id, ask)).then((well) => well && close());
            }}
          >
            <Choice label="notify nobody" value={length} options={LENGTHS} onChange={setLength} />
            <Field label="why" name="why" value={why} onChange={setWhy} />
            <Field
              label="only of these groups"
              name="where"
              optional
              mono
              value={filter}
              onChange={setFilter}
              placeholder="zone=north"
            />
            {failure && <Problem>{failure}</Problem>}
            <Button type="submit" $chief>
              Mute
            </Button>
          </Form>
        )}
      </Opens>
    </>
  );
}
