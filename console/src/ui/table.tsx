import styled from "styled-components";
import { space } from "../app/tokens";

/** A table of a page: lines between rows, the head stands back, and where it is too wide its box scrolls. */
export const Table = styled.table`
  border-collapse: collapse;
  width: 100%;
  margin-bottom: ${space.xl};
  th,
  td {
    text-align: left;
    padding: 5px ${space.m} 5px 0;
    border-bottom: 1px solid ${(p) => p.theme.line};
    vertical-align: baseline;
  }
  th {
    color: ${(p) => p.theme.muted};
    font-weight: 400;
  }
  .short {
    white-space: nowrap;
  }
  /* A control that reads as text begins where text begins. */
  td > button:first-child {
    margin-left: -${space.xs};
  }
  .number {
    text-align: right;
    white-space: nowrap;
    font-variant-numeric: tabular-nums;
  }
  a {
    color: ${(p) => p.theme.accent};
  }
`;
