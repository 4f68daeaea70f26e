import styled from "styled-components";

const Strip = styled.span`
  display: inline-flex;
  align-items: flex-end;
  gap: 1px;
  height: 18px;
  i {
    width: 4px;
    background: ${(p) => p.theme.calmBar};
  }
  i[data-none] {
    background: ${(p) => p.theme.quietBar};
  }
`;

/** Events of each hour as a strip of bars; read aloud by its last hour. */
export function Hours({ counts }: { counts: number[] }) {
  const most = Math.max(1, ...counts);
  const last = counts.at(-1) ?? 0;
  return (
    <Strip role="img" aria-label={`${last} in this hour, at most ${Math.max(0, ...counts)} in one hour`}>
      {counts.map((n, at) => (
        <i key={at} data-none={n === 0 || undefined} style={{ height: n === 0 ? 1 : Math.max(2, (n / most) * 18) }} />
      ))}
    </Strip>
  );
}
