import { useSyncExternalStore } from "react";
import { useLocation } from "react-router";
import styled from "styled-components";
import { elsewhere, isReached, onReach } from "../api/reach";
import { useMe } from "./session";
import { space } from "./tokens";

const Notice = styled.p`
  margin: 0;
  padding: ${space.s} ${space.l};
  border-bottom: 1px solid ${(p) => p.theme.line};
  color: ${(p) => p.theme.severity.error};
  a {
    color: ${(p) => p.theme.accent};
  }
`;

/** While the node behind this console does not answer: the same place on the others. */
export function Elsewhere() {
  const reached = useSyncExternalStore(onReach, isReached);
  const { pathname, search } = useLocation();
  const others = elsewhere(useMe()?.nodes ?? [], pathname + search);
  if (reached || others.length === 0) return null;
  return (
    <Notice role="status" data-testid="elsewhere">
      This node does not answer. Go on at{" "}
      {others.map(({ node, href }, n) => (
        <span key={node}>
          {n > 0 && " or "}
          <a href={href}>{node}</a>
        </span>
      ))}
      .
    </Notice>
  );
}
