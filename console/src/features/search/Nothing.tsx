import styled from "styled-components";
import type { EmptyAnswer } from "../../api/types";
import { space } from "../../app/tokens";
import { Button } from "../../ui/controls";
import { renamed, type Asked } from "./asked";

const Page = styled.div`
  padding: ${space.xl};
  max-width: 640px;
  overflow: auto;
  h2 {
    font-size: 16px;
    margin: 0 0 ${space.s};
  }
  li {
    margin-bottom: ${space.xs};
  }
`;

const Steps = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${space.s};
`;

/** A reason, with what stands in backquotes as code. */
function Reason({ text }: { text: string }) {
  return text.split("`").map((piece, n) => (n % 2 ? <code key={n}>{piece}</code> : piece));
}

interface Props {
  empty: EmptyAnswer;
  asked: Asked | undefined;
  onQuery: (query: string) => void;
  onDay: () => void;
}

/** Why nothing was found, and what to try next. */
export function Nothing({ empty, asked, onQuery, onDay }: Props) {
  const spellings = empty.unknown_fields.flatMap((hint) => hint.near.map((near) => ({ field: hint.field, near })));
  return (
    <Page data-testid="empty">
      <h2>Nothing found</h2>
      <ul>
        {empty.reasons.map((reason) => (
          <li key={reason}>
            <Reason text={reason} />
          </li>
        ))}
      </ul>
      <Steps role="group" aria-label="What to try">
        {spellings.map(({ field, near }) => (
          <Button
            key={`${field} ${near}`}
            isDisabled={!asked}
            onPress={() => asked && onQuery(renamed(asked, field, near))}
          >
            ask for {near}
          </Button>
        ))}
        {empty.in_range > 0 && <Button onPress={() => onQuery("")}>every event of this range</Button>}
        <Button onPress={onDay}>the last day</Button>
      </Steps>
    </Page>
  );
}
