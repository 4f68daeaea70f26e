import { Fragment } from "react";
import styled from "styled-components";

const Varying = styled.span`
  color: ${(p) => p.theme.varying};
`;

/** Runs with a digit in them: ids, numbers, measures. What stays the same between two such messages is left out. */
const VARYING = /[\p{L}_]*-?\d[\p{L}\p{N}_.:-]*/gu;

/** Splits a message into parts, true for those that vary. */
export function varyingParts(message: string): [string, boolean][] {
  const parts: [string, boolean][] = [];
  let at = 0;
  for (const match of message.matchAll(VARYING)) {
    const text = match[0].replace(/[.:-]+$/, "");
    if (match.index > at) parts.push([message.slice(at, match.index), false]);
    parts.push([text, true]);
    at = match.index + text.length;
  }
  if (at < message.length) parts.push([message.slice(at), false]);
  return parts;
}

/** A message with its varying parts set apart. */
export function Message({ text }: { text: string }) {
  return varyingParts(text).map(([part, varies], i) =>
    varies ? <Varying key={i}>{part}</Varying> : <Fragment key={i}>{part}</Fragment>,
  );
}
