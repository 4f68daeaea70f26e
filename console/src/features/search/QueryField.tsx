import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, placeholder } from "@codemirror/view";
import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import styled from "styled-components";
import type { CheckAnswer } from "../../api/types";
import { radius, space, type } from "../../app/tokens";
import { queryLanguage } from "./language";

const Box = styled.div`
  flex: 1 1 320px;
  min-width: 0;
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  &:focus-within {
    border-color: ${(p) => p.theme.accent};
  }
  .cm-editor {
    outline: none;
    background: none;
    color: ${(p) => p.theme.text};
  }
  .cm-scroller {
    font-family: ${type.mono};
    line-height: 20px;
    max-height: 104px;
    overflow: auto;
  }
  .cm-content {
    padding: 7px ${space.m};
    caret-color: ${(p) => p.theme.accent};
  }
  .cm-line {
    padding: 0;
  }
  .cm-placeholder {
    color: ${(p) => p.theme.faint};
  }
  && .cm-selectionBackground,
  && ::selection {
    background: color-mix(in srgb, ${(p) => p.theme.accent} 30%, transparent);
  }
  .cm-cursor {
    border-left-color: ${(p) => p.theme.accent};
  }
  .q-keyword,
  .q-function {
    color: ${(p) => p.theme.accent};
  }
  .q-field {
    color: ${(p) => p.theme.text};
    font-weight: 650;
  }
  .q-sign,
  .q-bracket,
  .q-comma {
    color: ${(p) => p.theme.muted};
  }
  .q-value,
  .q-quoted {
    color: ${(p) => p.theme.varying};
  }
  .q-regex,
  .q-name {
    color: ${(p) => p.theme.mark};
  }
  .q-mistake {
    text-decoration: underline wavy ${(p) => p.theme.severity.error};
    text-underline-offset: 3px;
  }
  .cm-tooltip {
    background: ${(p) => p.theme.raised};
    border: 1px solid ${(p) => p.theme.line};
    border-radius: ${radius};
    color: ${(p) => p.theme.text};
    z-index: 20;
  }
  && .cm-tooltip.cm-tooltip-autocomplete > ul {
    font-family: ${type.mono};
    max-height: 336px;
    max-width: min(640px, 94vw);
  }
  && .cm-tooltip.cm-tooltip-autocomplete > ul > li {
    display: flex;
    gap: ${space.m};
    padding: 4px ${space.m};
    line-height: 20px;
  }
  .cm-completionLabel {
    white-space: pre;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .cm-completionDetail {
    font-style: normal;
    font-family: ${type.text};
    color: ${(p) => p.theme.muted};
    margin: 0;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .q-count {
    margin-left: auto;
    color: ${(p) => p.theme.muted};
    font-variant-numeric: tabular-nums;
  }
  && .cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected] {
    background: ${(p) => p.theme.chosen};
    color: ${(p) => p.theme.text};
    box-shadow: inset 2px 0 ${(p) => p.theme.accent};
  }
`;

/** What others may do to the field. */
export interface QueryFieldHandle {
  /** To the field, with its text chosen. */
  focus: () => void;
  /** To the end of its text. */
  goOn: () => void;
}

/** What the field shows, and whom it shows. */
export interface QueryFieldProps {
  value: string;
  invalid: boolean;
  range: { from: string; to: string };
  onChange: (text: string) => void;
  onSubmit: (text: string) => void;
  onLook: (answer: CheckAnswer | undefined) => void;
  handle?: Ref<QueryFieldHandle>;
  /** What those hear who cannot see it; Query if not given. */
  label?: string;
}

/** The query: coloured, completed, its mistakes underlined. */
export default function QueryField(props: QueryFieldProps) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  const latest = useRef(props);
  useEffect(() => {
    latest.current = props;
  });
  useEffect(() => {
    const parent = box.current;
    if (!parent) return;
    const editor: EditorView = new EditorView({
      parent,
      state: EditorState.create({
        extensions: [
          queryLanguage({
            look: (answer) => latest.current.onLook(answer),
            submit: () => latest.current.onSubmit(editor.state.doc.toString()),
            leave: () => editor.contentDOM.blur(),
            range: () => latest.current.range,
          }),
          history(),
          keymap.of([...defaultKeymap.filter((k) => k.key !== "Enter"), ...historyKeymap]),
          EditorView.lineWrapping,
          placeholder('severity>=warn service=slots "ran out"'),
          EditorView.contentAttributes.of({
            "aria-label": latest.current.label ?? "Query",
            spellcheck: "false",
            autocapitalize: "off",
          }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) latest.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, []);
  useEffect(() => {
    const editor = view.current;
    const now = editor?.state.doc.toString();
    if (!editor || now === props.value) return;
    editor.dispatch({
      changes: { from: 0, to: editor.state.doc.length, insert: props.value },
      selection: { anchor: props.value.length },
    });
  }, [props.value]);
  useEffect(() => {
    view.current?.contentDOM.setAttribute("aria-invalid", String(props.invalid));
  }, [props.invalid]);
  useImperativeHandle(props.handle, () => ({
    focus: () => {
      const editor = view.current;
      if (!editor) return;
      editor.focus();
      editor.dispatch({ selection: { anchor: 0, head: editor.state.doc.length } });
    },
    goOn: () => {
      view.current?.focus();
      view.current?.dispatch({ selection: { anchor: view.current.state.doc.length } });
    },
  }));
  return <Box ref={box} data-testid="query" />;
}
