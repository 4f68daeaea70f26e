import type { ReactNode } from "react";
import { Dialog, DialogTrigger, Heading, Modal, ModalOverlay, Popover } from "react-aria-components";
import styled from "styled-components";
import { radius, space, type } from "../app/tokens";
import { Quiet } from "./controls";

const Sheet = styled(Popover)`
  background: ${(p) => p.theme.raised};
  color: ${(p) => p.theme.text};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: ${space.m} ${space.l};
  max-width: min(680px, calc(100vw - 24px));
  max-height: 70vh;
  overflow: auto;
  h2 {
    font-size: ${type.small};
    font-weight: 400;
    color: ${(p) => p.theme.muted};
    margin: ${space.m} 0 ${space.xs};
  }
  h2:first-child {
    margin-top: 0;
  }
  dl {
    display: grid;
    grid-template-columns: auto auto;
    gap: 2px ${space.l};
    margin: 0;
    font-variant-numeric: tabular-nums;
  }
  dd {
    margin: 0;
    text-align: right;
  }
`;

/** A quiet control that opens something small beside it. */
export function Opens(props: { name: ReactNode; label: string; children: (close: () => void) => ReactNode }) {
  return (
    <DialogTrigger>
      <Quiet aria-label={typeof props.name === "string" ? undefined : props.label}>{props.name}</Quiet>
      <Sheet placement="bottom start">
        <Dialog aria-label={props.label} style={{ outline: "none" }}>
          {({ close }) => props.children(close)}
        </Dialog>
      </Sheet>
    </DialogTrigger>
  );
}

const Over = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  display: grid;
  place-items: center;
  background: color-mix(in srgb, ${(p) => p.theme.ground} 70%, transparent);
  z-index: 10;
`;

const Frame = styled(Modal)`
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: ${space.xl};
  width: min(520px, calc(100vw - 24px));
  max-height: 90vh;
  overflow: auto;
  h2 {
    margin: 0 0 ${space.m};
    font-size: ${type.lead};
  }
  form {
    display: grid;
    gap: ${space.m};
  }
`;

/** A question in the middle of the page. */
export function Asks(props: { open: boolean; title: string; onClose: () => void; children: ReactNode }) {
  return (
    <Over isOpen={props.open} onOpenChange={(now) => !now && props.onClose()} isDismissable>
      <Frame>
        <Dialog style={{ outline: "none" }}>
          <Heading slot="title">{props.title}</Heading>
          {props.children}
        </Dialog>
      </Frame>
    </Over>
  );
}
