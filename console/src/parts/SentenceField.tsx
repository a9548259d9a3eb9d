/** Where a sentence is written: with what may stand next, and its mistake at its place. Enter keeps it, Escape leaves it as it was. */
import { useEffect, useId, useRef, useState } from "react";

import { type CompleteAnswer, type SentenceKind, type SentenceProposal, complete } from "../api/plan";
import { BUTTON } from "../design/buttons";
import { share } from "../lib/format";
import { Build } from "./Build";
import { Marked, wrong } from "./Mistake";

interface SentenceFieldProps {
  kind: SentenceKind;
  /** What the field is called for those who hear it. */
  label: string;
  value: string;
  /** The point whose events tell fields and values. */
  point: string | undefined;
  placeholder?: string;
  /** Says on the button what keeping it does. */
  keep?: string;
  onKeep: (sentence: string) => void;
  onCancel: () => void;
}

/** What a service offers first: what is in the events, then the words of the language. */
const ORDER = ["value", "field", "recipe", "table", "source", "route", "destination"];
const rank = (p: SentenceProposal) => (ORDER.includes(p.sort) ? ORDER.indexOf(p.sort) : ORDER.length);
/** Most that are offered at once. */
const MOST = 9;

/** The place in a text, in UTF-16 units, of a byte of its UTF-8. */
function place(text: string, byte: number): number {
  return new TextDecoder().decode(new TextEncoder().encode(text).slice(0, byte)).length;
}

/** What the service says of a text, a moment after it was written; what it said of another text is not told. */
function useTold(kind: SentenceKind, text: string, point: string | undefined, after: number, wanted: boolean): CompleteAnswer | null {
  const [told, setTold] = useState<{ text: string; answer: CompleteAnswer } | null>(null);
  useEffect(() => {
    if (!wanted) return;
    const stop = new AbortController();
    // A letter that follows at once makes the question before it idle.
    const later = setTimeout(() => {
      complete(kind, text, point, stop.signal).then(
        (answer) => setTold({ text, answer }),
        () => undefined,
      );
    }, after);
    return () => {
      clearTimeout(later);
      stop.abort();
    };
  }, [kind, text, point, after, wanted]);
  return wanted && told?.text === text ? told.answer : null;
}

export function SentenceField({ kind, label, value, point, placeholder, keep = "Keep", onKeep, onCancel }: SentenceFieldProps) {
  const [written, setWritten] = useState(value);
  const [caret, setCaret] = useState(value.length);
  const [chosen, setChosen] = useState(-1);
  const [listed, setListed] = useState(value === "");
  const [refused, setRefused] = useState<string | null>(null);
  const [builds, setBuilds] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const id = useId();
  const following = useTold(kind, written.slice(0, caret), point, 60, listed);
  const whole = useTold(kind, written, undefined, 200, written.trim() !== "")?.whole ?? null;
  const mistake = whole?.mistake ?? null;
  const offered = listed && following !== null ? [...following.proposals].sort((a, b) => rank(a) - rank(b)).slice(0, MOST) : [];

  useEffect(() => {
    const field = input.current;
    field?.focus();
    field?.setSelectionRange(field.value.length, field.value.length);
  }, []);

  const write = (text: string, at: number) => {
    setWritten(text);
    setCaret(at);
    setChosen(-1);
    setListed(true);
    setRefused(null);
  };
  const take = (proposal: SentenceProposal) => {
    const from = place(written.slice(0, caret), following?.from ?? 0);
    const rest = written.slice(caret);
    const begun = `${written.slice(0, from)}${proposal.text}${rest.startsWith(" ") || proposal.text === "(" ? "" : " "}`;
    write(begun + rest, begun.length);
    requestAnimationFrame(() => {
      input.current?.focus();
      input.current?.setSelectionRange(begun.length, begun.length);
    });
  };
  const keepIt = async () => {
    const sentence = written.trim();
    if (sentence === "") return kind === "condition" ? onKeep("") : onCancel();
    const found = (await complete(kind, written, undefined).catch(() => null))?.whole.mistake ?? null;
    if (found === null) onKeep(sentence);
    else {
      setRefused(written);
      setListed(false);
    }
  };
  return (
    <div
      className="relative flex flex-col gap-1.5 rounded border border-petal bg-surface p-2"
      onKeyDown={(e) => {
        if (e.key === "Escape" && !e.defaultPrevented) {
          e.preventDefault();
          e.stopPropagation();
          onCancel();
        }
      }}
    >
      <div className="flex items-center gap-2">
        <input
          ref={input}
          value={written}
          role="combobox"
          aria-label={label}
          aria-expanded={offered.length > 0}
          aria-controls={`${id}-list`}
          aria-autocomplete="list"
          aria-invalid={mistake !== null}
          aria-describedby={mistake === null ? undefined : `${id}-wrong`}
          {...(chosen >= 0 && { "aria-activedescendant": `${id}-${chosen}` })}
          spellCheck={false}
          autoComplete="off"
          placeholder={placeholder}
          className="min-w-0 flex-1 bg-transparent px-1 py-0.5 font-mono text-xs outline-none placeholder:text-soft"
          onChange={(e) => write(e.target.value, e.target.selectionStart ?? e.target.value.length)}
          onSelect={(e) => setCaret(e.currentTarget.selectionStart ?? written.length)}
          onKeyDown={(e) => {
            if (e.key === "ArrowDown" && !e.altKey) {
              e.preventDefault();
              setListed(true);
              setChosen(Math.min(chosen + 1, offered.length - 1));
            } else if (e.key === "ArrowUp" && !e.altKey) {
              e.preventDefault();
              setChosen(Math.max(chosen - 1, -1));
            } else if (e.key === "Escape" && offered.length > 0) {
              e.preventDefault();
              setListed(false);
              setChosen(-1);
            } else if (e.key === "Enter") {
              e.preventDefault();
              const proposal = offered[chosen];
              if (proposal === undefined) void keepIt();
              else take(proposal);
            } else if (e.key === "Tab" && !e.shiftKey && chosen >= 0) {
              const proposal = offered[chosen];
              if (proposal !== undefined) {
                e.preventDefault();
                take(proposal);
              }
            }
          }}
        />
        <button type="button" className={BUTTON} onClick={() => void keepIt()}>
          {keep}
        </button>
        {kind !== "alert" && (
          <button type="button" className={BUTTON} aria-expanded={builds} onClick={() => setBuilds(!builds)}>
            Build
          </button>
        )}
        <button type="button" className={BUTTON} onClick={onCancel}>
          Cancel
        </button>
      </div>
      <ul id={`${id}-list`} role="listbox" aria-label="What may stand here" hidden={offered.length === 0} className="card absolute top-full left-1 z-20 mt-1 max-h-72 min-w-64 overflow-y-auto p-1 shadow-(--shadow)">
        {offered.map((p, i) => (
          <li
            key={`${p.sort} ${p.text}`}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === chosen}
            className="flex cursor-pointer items-baseline gap-3 rounded px-2 py-0.5 text-sm aria-selected:bg-petal-wash aria-selected:text-petal"
            onMouseDown={(e) => {
              e.preventDefault();
              take(p);
            }}
          >
            <code className="font-mono text-xs">{p.text}</code>
            <span className="num ml-auto text-xs text-soft">
              {p.sort === "word" || p.sort === "sign" ? "" : p.sort} {p.share == null ? "" : share(p.share, 1)}
            </span>
          </li>
        ))}
      </ul>
      {mistake !== null && (
        <p id={`${id}-wrong`} role={refused === written ? "alert" : undefined} className="px-1 text-sm">
          <Marked text={written.trimEnd()} mistake={mistake} /> <span className={refused === written ? "text-fails" : "text-soft"}>{wrong(mistake)}</span>
        </p>
      )}
      {whole?.says != null && <p className="px-1 text-sm whitespace-pre-line text-soft">{whole.says}</p>}
      {builds && kind !== "alert" && <Build kind={kind} point={point} written={written} onWrite={(text) => write(text, text.length)} />}
    </div>
  );
}
