/** The whole file, in an editor that is loaded when it is first used. */
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, drawSelection, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";

import type { PlanMistake } from "../../api/plan";
import { wrong } from "../../parts/Mistake";

/** A change is kept once nothing was written for so long, in milliseconds. */
const PAUSE = 500;

const LOOK = EditorView.theme({
  "&": { fontSize: "0.75rem", height: "100%" },
  ".cm-content": { fontFamily: '"JetBrains Mono Variable", monospace', caretColor: "var(--ink)" },
  ".cm-scroller": { fontFamily: '"JetBrains Mono Variable", monospace', fontVariantLigatures: "none", lineHeight: "1.6" },
  ".cm-gutters": { background: "transparent", border: "none", color: "var(--ink-soft)" },
  ".cm-activeLine": { background: "var(--raised)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { background: "var(--petal-wash) !important" },
  ".cm-tooltip": { background: "var(--surface)", border: "1px solid var(--line)", color: "var(--ink)" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--fails)" },
});

const COLOURS = HighlightStyle.define([
  { tag: tags.comment, color: "var(--ink-soft)", fontStyle: "italic" },
  { tag: [tags.atom, tags.bracket], color: "var(--petal)" },
  { tag: tags.propertyName, color: "var(--arrive)" },
  { tag: [tags.number, tags.bool], color: "var(--removed)" },
]);

/** A mistake where it stands, as the editor marks it. */
function diagnostic(state: EditorState, mistake: PlanMistake): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(1, mistake.line), state.doc.lines));
  const letters = [...line.text];
  const at = (n: number) => line.from + letters.slice(0, n).join("").length;
  const from = at(mistake.column - 1);
  return { from, to: Math.max(from, Math.min(line.to, at(mistake.column - 1 + mistake.length))), severity: "error", message: wrong(mistake) };
}

interface WholeProps {
  text: string;
  mistakes: PlanMistake[];
  mayChange: boolean;
  onChange: (text: string) => void;
}

export default function Whole({ text, mistakes, mayChange, onChange }: WholeProps) {
  const at = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const latest = useRef({ text, onChange });
  const later = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useEffect(() => {
    latest.current = { text, onChange };
  });
  useEffect(() => {
    if (at.current === null) return;
    const send = EditorView.updateListener.of((update) => {
      if (!update.docChanged || update.transactions.some((t) => t.isUserEvent("given"))) return;
      clearTimeout(later.current);
      later.current = setTimeout(() => {
        const written = update.view.state.doc.toString();
        if (written !== latest.current.text) latest.current.onChange(written);
      }, PAUSE);
    });
    const made = new EditorView({
      parent: at.current,
      state: EditorState.create({
        doc: latest.current.text,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          keymap.of([...defaultKeymap, ...historyKeymap]),
          StreamLanguage.define(toml),
          syntaxHighlighting(COLOURS),
          lintGutter(),
          LOOK,
          EditorView.lineWrapping,
          EditorState.readOnly.of(!mayChange),
          EditorView.contentAttributes.of({ "aria-label": "The whole plan" }),
          send,
        ],
      }),
    });
    view.current = made;
    return () => {
      clearTimeout(later.current);
      made.destroy();
      view.current = null;
    };
  }, [mayChange]);
  // What was changed elsewhere stands here too, with the caret where it was.
  useEffect(() => {
    const editor = view.current;
    if (editor === null || later.current !== undefined) {
      if (editor?.state.doc.toString() === text) later.current = undefined;
      return;
    }
    const doc = editor.state.doc.toString();
    if (doc !== text) editor.dispatch({ changes: { from: 0, to: doc.length, insert: text }, selection: { anchor: Math.min(editor.state.selection.main.anchor, text.length) }, userEvent: "given" });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (editor !== null) editor.dispatch(setDiagnostics(editor.state, mistakes.map((m) => diagnostic(editor.state, m))));
  }, [mistakes, text]);
  return <div ref={at} className="h-[32rem] min-h-0 overflow-hidden rounded border border-line bg-surface" />;
}
