import { useMutation, useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api } from "../../api/client";
import { space } from "../../app/tokens";
import { useMe } from "../../app/session";
import { Button, Mono, Muted, Problem } from "../../ui/controls";
import { Table } from "../../ui/table";

const Head = styled.div`
  display: flex;
  align-items: baseline;
  gap: ${space.l};
`;

const Wrong = styled.span`
  color: ${(p) => p.theme.severity.error};
`;

const ms = (n: number | null | undefined) => (typeof n === "number" ? `${n.toFixed(0)} ms` : "–");

/** Where one can send; and a marked event sent by each way, up to found by search. */
export function WaysIn() {
  const me = useMe();
  const ways = useQuery({ queryKey: ["ways"], queryFn: ({ signal }) => api.waysIn(signal) });
  const probe = useMutation({ mutationFn: () => api.probe() });
  return (
    <>
      <Head>
        <h1>Ways in</h1>
        {me?.role === "admin" && (
          <Button isDisabled={probe.isPending} onPress={() => probe.mutate()}>
            {probe.isPending ? "probing …" : "probe each"}
          </Button>
        )}
      </Head>
      {probe.error && <Problem>{probe.error.message}</Problem>}
      <div className="wide">
        <Table aria-label="Ways in">
          <thead>
            <tr>
              <th scope="col">way</th>
              <th scope="col">address</th>
              {probe.data ? (
                <>
                  <th scope="col" className="number">
                    answered
                  </th>
                  <th scope="col" className="number">
                    found
                  </th>
                </>
              ) : (
                <td colSpan={2} />
              )}
              <td />
            </tr>
          </thead>
          <tbody>
            {ways.data?.map((w) => {
              const reported = probe.data?.find((p) => p.way === w.name);
              return (
                <tr key={w.name}>
                  <td>{w.name}</td>
                  <td>
                    <Mono>{w.address || window.location.host}</Mono>
                  </td>
                  <td className="number">{reported && ms(reported.answered_ms)}</td>
                  <td className="number">{reported && ms(reported.found_ms)}</td>
                  <td>
                    {reported?.wrong ? <Wrong>{reported.wrong}</Wrong> : reported && <Muted>found by search</Muted>}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </Table>
      </div>
    </>
  );
}
