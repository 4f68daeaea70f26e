import { Unseen } from "../../ui/page";
import { useRef, useState } from "react";
import { Menu, MenuItem, MenuTrigger, Popover } from "react-aria-components";
import styled from "styled-components";
import { radius, space, type } from "../../app/tokens";
import { Quiet } from "../../ui/controls";
import type { Column } from "./state";

const Head = styled.div`
  position: sticky;
  top: 0;
  z-index: 2;
  display: grid;
  align-items: center;
  min-width: 100%;
  height: 26px;
  padding: 0 ${space.m};
  background: ${(p) => p.theme.ground};
  border-bottom: 1px solid ${(p) => p.theme.line};
  color: ${(p) => p.theme.muted};
  font-size: ${type.small};
  > * {
    position: relative;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  button {
    margin-left: -${space.xs};
    max-width: calc(100% - 6px);
    overflow: hidden;
    text-overflow: ellipsis;
  }
  @media (max-width: 600px) {
    padding: 0 ${space.xs};
  }
`;

const Edge = styled.div`
  position: absolute;
  right: 0;
  top: 4px;
  bottom: 4px;
  width: 8px;
  cursor: col-resize;
  touch-action: none;
  border-right: 1px solid ${(p) => p.theme.line};
`;

const List = styled(Menu)`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: ${space.xs};
  outline: none;
`;

const Item = styled(MenuItem)`
  padding: 4px ${space.m};
  border-radius: ${radius};
  cursor: pointer;
  outline: none;
  &[data-focused] {
    background: ${(p) => p.theme.chosen};
  }
  &[data-disabled] {
    color: ${(p) => p.theme.faint};
    cursor: default;
  }
`;

/** The names of the columns; those chosen can be moved, widened and taken away. */
export function ListHead(props: {
  grid: string;
  columns: Column[];
  compact: boolean;
  onColumns: (columns: Column[]) => void;
}) {
  const { columns, onColumns } = props;
  const widen = (n: number, width: number) =>
    onColumns(columns.map((c, i) => (i === n ? { ...c, width: Math.round(Math.min(Math.max(width, 40), 800)) } : c)));
  const move = (n: number, by: number) => {
    const next = [...columns];
    const [column] = next.splice(n, 1);
    if (column) next.splice(n + by, 0, column);
    onColumns(next);
  };
  return (
    <Head role="row" style={{ gridTemplateColumns: props.grid }}>
      <span role="columnheader">time</span>
      <span role="columnheader">
        <Unseen as="span">severity</Unseen>
      </span>
      {!props.compact && <span role="columnheader">service</span>}
      {columns.map((column, n) => (
        <span role="columnheader" key={column.field}>
          <MenuTrigger>
            <Quiet aria-label={`Column ${column.field}`}>{column.field}</Quiet>
            <Popover placement="bottom start">
              <List
                onAction={(key) => {
                  if (key === "left") move(n, -1);
                  else if (key === "right") move(n, 1);
                  else if (key === "wider") widen(n, column.width + 40);
                  else if (key === "narrower") widen(n, column.width - 40);
                  else onColumns(columns.filter((c) => c !== column));
                }}
                disabledKeys={[...(n === 0 ? ["left"] : []), ...(n === columns.length - 1 ? ["right"] : [])]}
              >
                <Item id="left">to the left</Item>
                <Item id="right">to the right</Item>
                <Item id="wider">wider</Item>
                <Item id="narrower">narrower</Item>
                <Item id="away">take away</Item>
              </List>
            </Popover>
          </MenuTrigger>
          <Grip width={column.width} onWidth={(width) => widen(n, width)} name={column.field} />
        </span>
      ))}
      <span role="columnheader">message</span>
    </Head>
  );
}

/** The edge of a column, to be dragged. */
function Grip({ width, name, onWidth }: { width: number; name: string; onWidth: (width: number) => void }) {
  const from = useRef<{ x: number; width: number }>(undefined);
  const [held, setHeld] = useState(false);
  return (
    <Edge
      role="separator"
      aria-orientation="vertical"
      aria-label={`Width of ${name}`}
      aria-valuenow={width}
      data-held={held}
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        from.current = { x: e.clientX, width };
        setHeld(true);
      }}
      onPointerMove={(e) => from.current && onWidth(from.current.width + e.clientX - from.current.x)}
      onPointerUp={() => {
        from.current = undefined;
        setHeld(false);
      }}
    />
  );
}
