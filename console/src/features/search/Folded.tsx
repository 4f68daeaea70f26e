import styled from "styled-components";
import { space, type } from "../../app/tokens";

/** Where events stand folded, by shape or by problem: a table whose cells of class `wide` a phone leaves out. */
export const Folded = styled.div`
  overflow: auto;
  padding: ${space.s} ${space.l};
  min-width: 0;
  code {
    font-family: ${type.mono};
    font-size: ${type.small};
    overflow-wrap: anywhere;
  }
  td button {
    text-align: left;
  }
  @media (max-width: 600px) {
    .wide {
      display: none;
    }
  }
`;
