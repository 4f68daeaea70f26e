import styled from "styled-components";
import { space, type } from "../app/tokens";

/** A page that scrolls as a whole; what is wider than it scrolls in a box of the class `wide`. */
export const Page = styled.div`
  height: 100%;
  overflow: auto;
  padding: ${space.l};
  h1 {
    font-size: ${type.head};
    margin: 0 0 ${space.m};
  }
  .wide {
    overflow-x: auto;
  }
  p > a {
    color: ${(p) => p.theme.accent};
  }
`;

/** The name of a page that shows none, for those who do not see it. */
export const Unseen = styled.h1`
  position: absolute;
  width: 1px;
  height: 1px;
  margin: -1px;
  overflow: hidden;
  clip-path: inset(50%);
  white-space: nowrap;
`;
