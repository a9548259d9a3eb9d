/** A list of steps: each edited where it stands, moved by drag or keyboard, with its effect beside it. */
import { DropdownMenu } from "radix-ui";
import { useEffect, useRef, useState } from "react";

import type { OutlinePart, OutlineSentence, TrialPart, TrialStep } from "../../api/plan";
import { SMALL_BUTTON } from "../../design/buttons";
import { ITEM, MENU } from "../../design/menu";
import { Marked, wrong } from "../../parts/Mistake";
import { Sentence } from "../../parts/Sentence";
import { SentenceField } from "../../parts/SentenceField";
import { Effect, Left, effects } from "./Effect";
import { useDraft } from "./draft";

/** A sentence that can be opened for writing. */
export function SentenceButton({ of, label, empty, condition = false, onOpen }: { of: OutlineSentence | null; label: string; empty?: string; condition?: boolean; onOpen: (() => void) | null }) {
  const text = of === null ? <span className="text-soft">{empty}</span> : of.mistake != null ? <Marked text={of.sentence} mistake={of.mistake} /> : <Sentence condition={condition} text={of.sentence} />;
  if (onOpen === null) return <span>{text}</span>;
  return (
    <button type="button" aria-label={label} onClick={onOpen} className="min-w-0 rounded px-1 py-0.5 text-left hover:bg-raised">
      {text}
    </button>
  );
}

interface LineProps {
  part: OutlinePart;
  number: number;
  step: OutlineSentence;
  effect: TrialStep | null;
  /** What the step before it does. */
  before: TrialStep | null;
  /** The line that is to be focused once it stands where it was moved to. */
  focus: boolean;
  onMove: (to: number) => void;
  onWrite: () => void;
}

function Line({ part, number, step, effect, before, focus, onMove, onWrite }: LineProps) {
  const { edit, mayChange } = useDraft();
  const [explained, setExplained] = useState(false);
  const line = useRef<HTMLLIElement>(null);
  const last = part.steps.length;
  useEffect(() => {
    if (focus) line.current?.querySelector("button")?.focus();
  }, [focus, step.sentence]);
  return (
    <li
      ref={line}
      data-step={number}
      draggable={mayChange}
      onDragStart={(e) => e.dataTransfer.setData("text/x-step", String(number))}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        const from = Number(e.dataTransfer.getData("text/x-step"));
        if (from > 0 && from !== number) edit({ edit: "move_step", part: part.part, number: from, to: number });
      }}
      onKeyDown={(e) => {
        if (!mayChange || !e.altKey || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
        e.preventDefault();
        const to = number + (e.key === "ArrowUp" ? -1 : 1);
        if (to >= 1 && to <= last) onMove(to);
      }}
      className="border-t border-line py-1"
    >
      <div className="grid grid-cols-[minmax(0,1fr)_auto_auto] items-baseline gap-x-3 max-md:grid-cols-[minmax(0,1fr)_auto]">
        <SentenceButton of={step} label={`Edit step ${number}: ${step.sentence}`} onOpen={mayChange ? onWrite : null} />
        <span className="max-md:order-last max-md:col-span-2">{effect !== null && <Effect step={effect} />}</span>
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className={SMALL_BUTTON} aria-label={`More for step ${number}`}>
            ⋯
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" sideOffset={4} className={MENU}>
              <DropdownMenu.Item className={ITEM} onSelect={() => setExplained(!explained)}>
                {explained ? "Hide the explanation" : "Explain"}
              </DropdownMenu.Item>
              {mayChange && (
                <>
                  <DropdownMenu.Item className={ITEM} disabled={number === 1} onSelect={() => onMove(number - 1)}>
                    Move up <kbd className="ml-2 text-xs text-soft">Alt ↑</kbd>
                  </DropdownMenu.Item>
                  <DropdownMenu.Item className={ITEM} disabled={number === last} onSelect={() => onMove(number + 1)}>
                    Move down <kbd className="ml-2 text-xs text-soft">Alt ↓</kbd>
                  </DropdownMenu.Item>
                  <DropdownMenu.Item className={`${ITEM} text-fails`} onSelect={() => edit({ edit: "remove_step", part: part.part, number })}>
                    Remove
                  </DropdownMenu.Item>
                </>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </div>
      {step.mistake != null && <p className="px-1 text-sm text-fails">{wrong(step.mistake)}</p>}
      {effect !== null && <Left step={effect} before={before} last={number === last} />}
      {explained && step.says != null && <p className="px-1 text-sm whitespace-pre-line text-soft">{step.says}</p>}
    </li>
  );
}

export function Steps({ part, tried, point }: { part: OutlinePart; tried: TrialPart | undefined; point: string | undefined }) {
  const { edit, mayChange } = useDraft();
  const [written, setWritten] = useState<number | null>(null);
  const [moved, setMoved] = useState<number | null>(null);
  const done = effects(part.steps, tried);
  const add = useRef<HTMLButtonElement>(null);
  const list = useRef<HTMLOListElement>(null);
  // What was written in gives the focus back to what stands there now.
  const close = (number: number) => {
    setWritten(null);
    setMoved(null);
    requestAnimationFrame(() => (number > part.steps.length ? add.current : list.current?.querySelector<HTMLElement>(`[data-step="${number}"] button`))?.focus());
  };
  return (
    <div>
      <ol ref={list} aria-label="Steps">
        {part.steps.map((step, i) =>
          written === i + 1 ? (
            <li key={i} data-step={i + 1} className="border-t border-line py-1">
              <SentenceField
                kind="step"
                label={`Step ${i + 1}`}
                value={step.sentence}
                point={point}
                onKeep={(sentence) => {
                  if (sentence !== step.sentence) edit({ edit: "change_step", part: part.part, number: i + 1, step: sentence });
                  close(i + 1);
                }}
                onCancel={() => close(i + 1)}
              />
            </li>
          ) : (
            <Line
              key={i}
              part={part}
              number={i + 1}
              step={step}
              effect={done[i] ?? null}
              before={done[i - 1] ?? null}
              focus={moved === i + 1}
              onMove={(to) => {
                setMoved(to);
                edit({ edit: "move_step", part: part.part, number: i + 1, to });
              }}
              onWrite={() => setWritten(i + 1)}
            />
          ),
        )}
      </ol>
      {part.steps.length === 0 && written === null && <p className="text-sm text-soft">No steps: events go on as they came.</p>}
      {mayChange &&
        (written === part.steps.length + 1 ? (
          <SentenceField
            kind="step"
            label="New step"
            value=""
            placeholder='drop path starts with "/health"'
            keep="Add"
            point={point}
            onKeep={(sentence) => {
              edit({ edit: "add_step", part: part.part, step: sentence });
              close(part.steps.length + 2);
            }}
            onCancel={() => close(part.steps.length + 1)}
          />
        ) : (
          <button ref={add} type="button" className={`${SMALL_BUTTON} mt-1.5`} onClick={() => setWritten(part.steps.length + 1)}>
            Add a step
          </button>
        ))}
    </div>
  );
}
