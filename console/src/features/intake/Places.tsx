import { NavLink } from "react-router";
import styled from "styled-components";
import { space } from "../../app/tokens";

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

const PLACES = [
  ["/intake", "Arrivals"],
  ["/intake/keys", "Keys"],
  ["/intake/transforms", "Transforms"],
  ["/intake/dials", "Dials"],
  ["/intake/fields", "Fields and ties"],
] as const;

/** The pages of Intake. */
export function Places() {
  return (
    <Row aria-label="Intake">
      {PLACES.map(([to, name]) => (
        <NavLink key={to} to={to} end>
          {name}
        </NavLink>
      ))}
    </Row>
  );
}
