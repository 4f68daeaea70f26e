import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import { api } from "../../api/client";
import { ago, parseNs } from "../../api/time";
import type { TieProposal } from "../../api/types";
import { Button, Choice, Mono, Muted, Problem } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { Form } from "../../ui/form";
import { useChange } from "../../ui/change";
import { Places } from "./Places";
import { number } from "../../ui/number";

const Note = styled.span`
  color: ${(p) => p.theme.severity.warn};
`;

/** Which fields events have, lane by lane, and the ties among them. */
export default function FieldsPage() {
  const [params, setParams] = useSearchParams();
  const lane = params.get("lane") ?? "";
  const fields = useQuery({ queryKey: ["fields"], queryFn: ({ signal }) => api.fields(signal) });
  const ties = useQuery({ queryKey: ["ties"], queryFn: ({ signal }) => api.ties(signal) });
  const proposals = useQuery({ queryKey: ["tie-proposals"], queryFn: ({ signal }) => api.tieProposals(signal) });
  const [problem, change] = useChange("ties", "tie-proposals", "fields");
  const accept = (p: TieProposal) => {
    const known = ties.data?.find((t) => t.name === p.tie);
    return change(() => api.putTie({ name: p.tie, spellings: [...(known?.spellings ?? []), p.spelling] }));
  };
  const lanes = [...new Set(fields.data?.map((f) => f.lane))];
  const shown = fields.data?.filter((f) => !lane || f.lane === lane) ?? [];
  const error = problem ?? fields.error?.message ?? ties.error?.message ?? proposals.error?.message;
  return (
    <Page>
      <Places />
      {error && <Problem>{error}</Problem>}
      <h1>Ties</h1>
      <p>
        <Muted>
          In a query, a tie&apos;s name stands for every spelling of it. Case, dots, dashes and an <Mono>x-</Mono>{" "}
          before a name make no difference.
        </Muted>
      </p>
      <div className="wide">
        <Table aria-label="Ties">
          <thead>
            <tr>
              <th scope="col">tie</th>
              <th scope="col">also spelled</th>
              <th scope="col">seems to be one too</th>
            </tr>
          </thead>
          <tbody>
            {ties.data?.map((t) => (
              <tr key={t.name}>
                <td>{t.name}</td>
                <td>
                  <Mono>{t.spellings.join(", ")}</Mono>
                </td>
                <td>
                  {proposals.data
                    ?.filter((p) => p.tie === t.name)
                    .map((p) => (
                      <div key={p.spelling}>
                        <Mono>{p.spelling}</Mono>{" "}
                        <Muted>
                          {p.shared} of {p.distinct} values are known, as {p.example}
                        </Muted>{" "}
                        <Button onPress={() => void accept(p)}>make it so</Button>
                      </div>
                    ))}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
      <h1>Fields of the last week</h1>
      <Form>
        <Choice
          label="lane"
          value={lane}
          options={[["", "every lane"], ...lanes.map((l) => [l, l] as const)]}
          onChange={(l) => setParams(l ? { lane: l } : {}, { replace: true })}
        />
      </Form>
      {fields.isPending && <Muted>Reading the newest pages …</Muted>}
      {fields.data?.length === 0 && <Muted>No events in the last week, in the lanes you may read.</Muted>}
      {shown.length > 0 && (
        <div className="wide">
          <Table aria-label="Fields">
            <thead>
              <tr>
                <th scope="col">lane</th>
                <th scope="col">field</th>
                <th scope="col">types</th>
                <th scope="col" className="number">
                  in
                </th>
                <th scope="col" className="number">
                  values
                </th>
                <th scope="col">last</th>
                <th scope="col">some of them</th>
                <th scope="col" className="short">
                  to know
                </th>
              </tr>
            </thead>
            <tbody>
              {shown.map((f) => (
                <tr key={`${f.lane} ${f.field}`}>
                  <td>{f.lane}</td>
                  <td>
                    <Link to={`/search?q=${encodeURIComponent(`has ${f.field}`)}`}>
                      <Mono>{f.field}</Mono>
                    </Link>
                  </td>
                  <td>{f.types.join(", ")}</td>
                  <td className="number">{(f.share * 100).toFixed(1)} %</td>
                  <td className="number">{number(f.distinct)}</td>
                  <td className="short">{ago(parseNs(f.last))}</td>
                  <td>
                    <Mono>{f.examples.join(" · ")}</Mono>
                  </td>
                  <td>
                    {f.tie && <Muted>tie {f.tie} </Muted>}
                    {f.conflicting && <Note>types differ</Note>}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex fields{lane && ` ${lane}`}</Mono>, <Mono>calvex tie propose</Mono>
      </Muted>
    </Page>
  );
}
