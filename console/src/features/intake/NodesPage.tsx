import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import { api } from "../../api/client";
import { useMe } from "../../app/session";
import { Mono, Muted, Problem, Quiet } from "../../ui/controls";
import { Page } from "../../ui/page";
import { Table } from "../../ui/table";
import { useChange } from "../../ui/change";
import { Places } from "./Places";
import { isWrong, stateOf, versionsApart } from "./nodes.model";

const Wrong = styled.span`
  color: ${(p) => p.theme.severity.error};
`;

/** The nodes of the database: which live, what each does for all, and whether it keeps up with the others. */
export default function NodesPage() {
  const me = useMe();
  const isAdmin = me?.role === "admin";
  const nodes = useQuery({
    queryKey: ["nodes"],
    queryFn: ({ signal }) => api.nodes(signal),
    refetchInterval: 1000,
    enabled: isAdmin,
  });
  const [problem, change] = useChange("nodes");
  const listed = nodes.data ?? [];
  const apart = versionsApart(listed);
  const error = problem ?? nodes.error?.message;
  const others = listed.filter((n) => n.alive).length > 1;
  return (
    <Page>
      <Places />
      <h1>Nodes</h1>
      <p>
        <Muted>
          Nodes on one database answer for one another: each sees what any of them acknowledged within a second. A node
          whose beat stands still for ten seconds is adopted by another one.
        </Muted>
      </p>
      {!isAdmin && <Muted>Nodes are shown to administrators.</Muted>}
      {error && <Problem>{error}</Problem>}
      {apart.length > 0 && <Problem>Nodes run different versions: {apart.join(", ")}.</Problem>}
      {listed.length > 0 && (
        <div className="wide" tabIndex={0}>
          <Table aria-label="Nodes">
            <thead>
              <tr>
                <th scope="col">node</th>
                <th scope="col">state</th>
                <th scope="col">does for all</th>
                <th scope="col" className="number">
                  looked at others
                </th>
                <th scope="col">database</th>
                <th scope="col" className="number">
                  slot
                </th>
                <th scope="col" className="number">
                  epoch
                </th>
                <th scope="col">calvex</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {listed.map((n) => (
                <tr key={n.slot}>
                  <td>
                    {n.url && !n.answers ? <a href={n.url}>{n.name}</a> : n.name}{" "}
                    {n.answers && <Muted>answers you</Muted>}
                  </td>
                  <td className="short">{isWrong(n) ? <Wrong>{stateOf(n)}</Wrong> : stateOf(n)}</td>
                  <td>{n.duties.join(", ")}</td>
                  <td className="number short">{n.alive && others && `${n.looked_ms} ms ago`}</td>
                  <td>
                    <Mono>{n.server}</Mono>
                  </td>
                  <td className="number">{n.slot}</td>
                  <td className="number">{n.epoch}</td>
                  <td>
                    <Mono>{n.version}</Mono>
                  </td>
                  <td className="short">
                    {n.alive && (others || n.draining) && (
                      <Quiet onPress={() => void change(() => api.putNode(n.name, { draining: !n.draining }))}>
                        {n.draining ? "take part again" : "drain"}
                      </Quiet>
                    )}
                    {!n.alive && <Quiet onPress={() => void change(() => api.retireNode(n.name))}>retire</Quiet>}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </div>
      )}
      <Muted>
        The same in the terminal: <Mono>calvex admin nodes</Mono>, <Mono>calvex admin node drain NAME</Mono>
      </Muted>
    </Page>
  );
}
