import { useEffect, useImperativeHandle, useRef, useState, type ComponentType } from "react";
import styled from "styled-components";
import { radius, space, type } from "../../app/tokens";
import type { QueryFieldHandle, QueryFieldProps } from "./QueryField";

const Plain = styled.input`
  flex: 1 1 320px;
  min-width: 0;
  min-height: 36px;
  background: ${(p) => p.theme.raised};
  border: 1px solid ${(p) => p.theme.line};
  border-radius: ${radius};
  padding: 7px ${space.m};
  font-family: ${type.mono};
`;

/**
 * The query, as a plain line at first: the editor is most of what the page weighs, and comes once the page is there.
 * What was typed meanwhile goes on in it.
 */
export function LazyQueryField(props: QueryFieldProps) {
  const [Editor, setEditor] = useState<ComponentType<QueryFieldProps>>();
  const plain = useRef<HTMLInputElement>(null);
  const editor = useRef<QueryFieldHandle>(null);
  const typing = useRef(false);
  useEffect(() => {
    const load = () =>
      void import("./QueryField")
        .then((module) => {
          typing.current = document.activeElement === plain.current;
          setEditor(() => module.default);
        })
        // The plain line asks as well.
        .catch(() => undefined);
    const idle = window.setTimeout(load, 300);
    return () => window.clearTimeout(idle);
  }, []);
  useEffect(() => {
    if (Editor && typing.current) editor.current?.goOn();
  }, [Editor]);
  useImperativeHandle(props.handle, () => ({
    focus: () => (editor.current ? editor.current.focus() : plain.current?.select()),
    goOn: () => (editor.current ? editor.current.goOn() : plain.current?.focus()),
  }));
  if (Editor) return <Editor {...props} handle={editor} />;
  return (
    <Plain
      ref={plain}
      aria-label={props.label ?? "Query"}
      placeholder='severity>=warn service=slots "ran out"'
      spellCheck={false}
      autoComplete="off"
      value={props.value}
      onChange={(e) => props.onChange(e.target.value)}
      onKeyDown={(e) => {
        if (e.key !== "Enter") return;
        e.preventDefault();
        props.onSubmit(props.value);
      }}
    />
  );
}
