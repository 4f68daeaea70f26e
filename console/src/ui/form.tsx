import styled from "styled-components";
import { radius, space } from "../app/tokens";

/** Fields in a row, which wrap, with what sends them at the end. */
export const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: ${space.m};
  margin-bottom: ${space.xl};
  > button {
    min-height: 34px;
  }
  > .grow {
    flex: 1 1 320px;
  }
`;

/** What is shown this once. */
export const Shown = styled.p`
  border: 1px solid ${(p) => p.theme.accent};
  border-radius: ${radius};
  padding: ${space.m};
  overflow-wrap: anywhere;
`;
