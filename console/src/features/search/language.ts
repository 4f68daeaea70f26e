import {
  acceptCompletion,
  autocompletion,
  closeCompletion,
  completionStatus,
  moveCompletionSelection,
  selectedCompletionIndex,
  setSelectedCompletion,
  startCompletion,
  type Completion,
  type CompletionContext,
  type CompletionResult,
} from "@codemirror/autocomplete";
import { EditorState, StateEffect, StateField, type Extension } from "@codemirror/state";
import { Decoration, EditorView, keymap, type DecorationSet } from "@codemirror/view";
import { api } from "../../api/client";
import type { CheckAnswer, Mistake, Proposal, Syntax } from "../../api/types";
import { number } from "../../ui/number";

/** How long typing rests before the text is looked at; and before mistakes are underlined. */
const LOOK_MS = 60;
const REST_MS = 500;

/** The parser counts characters, the editor UTF-16 units. */
export function unitsOf(text: string, characters: number): number {
  let units = 0;
  for (const character of text) {
    if (characters-- <= 0) break;
    units += character.length;
  }
  return units;
}

const charactersOf = (text: string) => [...text].length;

interface Look {
  tokens: Syntax[];
  mistakes: Mistake[];
}

const looked = StateEffect.define<Look>();

function tokensOf(node: Syntax): Syntax[] {
  return node.parts?.length ? node.parts.flatMap(tokensOf) : node.kind === "query" ? [] : [node];
}

function drawn(text: string, look: Look): DecorationSet {
  const within = (n: number) => Math.min(unitsOf(text, n), text.length);
  const colours = look.tokens.map((token) =>
    Decoration.mark({ class: `q-${token.kind}` }).range(within(token.from), within(token.to)),
  );
  const faults = look.mistakes.map((m) => {
    const from = within(m.column - 1);
    const to = within(m.column - 1 + m.length);
    // What lacks something at its end is underlined where it ends.
    const start = from === to ? Math.max(from - 1, 0) : from;
    return Decoration.mark({ class: "q-mistake", attributes: { title: `${m.message}; ${m.cure}` } }).range(start, to);
  });
  return Decoration.set(
    [...colours, ...faults].filter((d) => d.from < d.to),
    true,
  );
}

const marks = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(now, transaction) {
    let next = now.map(transaction.changes);
    for (const effect of transaction.effects)
      if (effect.is(looked)) next = drawn(transaction.newDoc.toString(), effect.value);
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

/** Colours the text and underlines mistakes, by the service's own parser. */
function looking(onLook: (answer: CheckAnswer | undefined) => void): Extension {
  let timer = 0;
  let resting = 0;
  let asked: AbortController | undefined;
  const look = (view: EditorView) => {
    asked?.abort();
    window.clearTimeout(resting);
    const mine = new AbortController();
    asked = mine;
    const text = view.state.doc.toString();
    api
      .check(text, mine.signal)
      .then((answer) => {
        if (mine.signal.aborted || view.state.doc.toString() !== text) return;
        const tokens = tokensOf(answer.syntax);
        view.dispatch({ effects: looked.of({ tokens, mistakes: [] }) });
        resting = window.setTimeout(() => {
          if (view.state.doc.toString() !== text) return;
          view.dispatch({ effects: looked.of({ tokens, mistakes: answer.mistakes }) });
          onLook(answer);
        }, REST_MS);
      })
      // Colour is a help: without it the text can still be asked.
      .catch(() => undefined);
  };
  return [
    marks,
    EditorView.updateListener.of((update) => {
      if (!update.docChanged) return;
      onLook(undefined);
      window.clearTimeout(timer);
      timer = window.setTimeout(() => look(update.view), LOOK_MS);
    }),
  ];
}

const KINDS: Record<Proposal["kind"], string> = {
  field: "field",
  part: "builtin",
  tie: "tie",
  value: "value",
  word: "word",
  aggregate: "figure",
  range: "range",
};

/** Proposals of fields and values seen in the range. */
function proposing(range: () => { from: string; to: string }): Extension {
  const source = async (context: CompletionContext): Promise<CompletionResult | null> => {
    const text = context.state.doc.toString();
    const before = text.slice(0, context.pos);
    // Behind a blank nothing is begun yet, and a list would only be in the way.
    if (!context.explicit && (before === "" || /\s$/.test(before))) return null;
    const stop = new AbortController();
    context.addEventListener("abort", () => stop.abort());
    const answer = await api
      .complete({ query: text, at: charactersOf(before), ...range() }, stop.signal)
      .catch(() => undefined);
    if (!answer || answer.proposals.length === 0) return null;
    const options: Completion[] = answer.proposals.map((p) => ({
      label: p.text,
      type: p.kind,
      detail: [p.kind === "value" ? "" : KINDS[p.kind], p.note].filter(Boolean).join(" · "),
      info: undefined,
      apply: p.kind === "value" ? `${p.text} ` : p.text,
      boost: p.events ?? 0,
    }));
    return { from: unitsOf(text, answer.from), options, filter: false };
  };
  const counted = (completion: Completion) => {
    const count = document.createElement("span");
    count.className = "q-count";
    count.textContent = completion.boost ? number(completion.boost) : "";
    return count;
  };
  return autocompletion({
    override: [source],
    defaultKeymap: false,
    selectOnOpen: false,
    icons: false,
    interactionDelay: 0,
    activateOnTypingDelay: 60,
    addToOptions: [{ render: counted, position: 90 }],
  });
}

const take = (view: EditorView) => {
  if (completionStatus(view.state) !== "active") return false;
  if (selectedCompletionIndex(view.state) === null) view.dispatch({ effects: setSelectedCompletion(0) });
  return acceptCompletion(view);
};

/** The language, as the editor needs it: colour, mistakes, proposals, and the keys of a field of one line. */
export function queryLanguage(on: {
  look: (answer: CheckAnswer | undefined) => void;
  submit: () => void;
  leave: () => void;
  range: () => { from: string; to: string };
}): Extension {
  return [
    looking(on.look),
    proposing(on.range),
    keymap.of([
      {
        key: "Enter",
        run: (view) => {
          if (selectedCompletionIndex(view.state) !== null && acceptCompletion(view)) return true;
          closeCompletion(view);
          on.submit();
          return true;
        },
      },
      { key: "Tab", run: take },
      { key: "ArrowDown", run: moveCompletionSelection(true) },
      { key: "ArrowUp", run: moveCompletionSelection(false) },
      { key: "Ctrl-Space", run: startCompletion },
      {
        key: "Escape",
        run: (view) => {
          if (!closeCompletion(view)) on.leave();
          return true;
        },
      },
    ]),
    // A query is one line: what is pasted with line ends becomes one.
    EditorState.transactionFilter.of((transaction) => {
      if (!transaction.docChanged || transaction.newDoc.lines === 1) return transaction;
      const text = transaction.newDoc.toString().replace(/\s*\n\s*/g, " ");
      return [
        {
          changes: { from: 0, to: transaction.startState.doc.length, insert: text },
          selection: { anchor: text.length },
        },
      ];
    }),
  ];
}
