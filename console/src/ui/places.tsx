import { NavLink } from "react-router";
import styled from "styled-components";
import { space } from "../app/tokens";

const Row = styled.nav`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.xs} ${space.l};
  margin-bottom: ${space.l};
  a {
    color: ${(p) => p.theme.muted};
    text-decoration: none;
    padding: 2px 0;
    border-bottom: 2px solid transparent;
  }
  a.active {
    color: ${(p) => p.theme.text};
    border-color: ${(p) => p.theme.accent};
  }
`;

/** The pages of one part of the console: address and name of each. */
export function PlacesOf({ name, places }: { name: string; places: readonly (readonly [string, string])[] }) {
  return (
    <Row aria-label={name}>
      {places.map(([to, name]) => (
        <NavLink key={to} to={to} end>
          {name}
        </NavLink>
      ))}
    </Row>
  );
}
