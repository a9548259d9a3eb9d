/** A new destination: as it stands in the plan, its secrets given, tested step by step, and only then put into the draft. */
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";

import { useFirstPlan } from "../../api/client";
import { useProbePlanned } from "../../api/operate";
import { useChangeDraft, useCheck, useOutline, usePlanDraft } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { GiveSecret } from "../../parts/GiveSecret";
import { wrong } from "../../parts/Mistake";
import { Sheet } from "../../parts/Sheet";
import { Found } from "../flow/Operate";

/** By what one has. */
const KINDS = [
  { kind: "http", says: "a service that takes JSON by HTTP" },
  { kind: "otlp", says: "a service that speaks OTLP" },
  { kind: "syslog", says: "a syslog server" },
  { kind: "mail", says: "people, by e-mail" },
  { kind: "archive", says: "an object store, for an archive" },
  { kind: "file", says: "a file on this host" },
  { kind: "discard", says: "nothing: events are counted and gone" },
];

/** The host that a part of a plan names first, if any. */
const hostOf = (text: string) => /(?:https?|smtps?):\/\/([^/"'\s]+)|address\s*=\s*["']([^"']+)/.exec(text)?.slice(1).find((host) => host !== undefined) ?? "";

function Written({ name, text, onText, onDone }: { name: string; text: string; onText: (text: string) => void; onDone: () => void }) {
  const draft = usePlanDraft();
  const change = useChangeDraft();
  const probe = useProbePlanned();
  const navigate = useNavigate();
  const before = draft.data?.text ?? "";
  const whole = `${before.trimEnd()}\n\n${text.trim()}\n`;
  const check = useCheck(whole);
  const missing = check.data?.missing_secrets ?? [];
  const wrongs = check.data?.mistakes ?? [];
  const refused = check.data?.refused ?? [];
  const tested = probe.variables?.text === whole ? probe.data : undefined;
  return (
    <>
      <label className="flex flex-col gap-1 text-sm text-soft">
        As it stands in the plan
        <textarea value={text} onChange={(e) => onText(e.target.value)} rows={Math.min(14, text.split("\n").length + 1)} spellCheck={false} className={`${FIELD} font-mono text-xs`} />
      </label>
      {wrongs.length > 0 && (
        <ul role="alert" className="text-sm text-fails">
          {wrongs.map((m) => (
            <li key={`${m.line}:${m.column}`}>
              ▲ {wrong(m)} <code className="font-mono text-xs">{m.excerpt.trim()}</code>
            </li>
          ))}
        </ul>
      )}
      {missing.map((secret) => (
        <GiveSecret key={secret} name={secret} says={`The secret ${secret} is not kept yet.`} shownTo={hostOf(text)} onKept={() => void check.refetch()} />
      ))}
      {refused.map((r) => (
        <p key={r} className="text-sm text-fails">
          ▲ {r.replaceAll("`", "")}
        </p>
      ))}
      {tested !== undefined && <Found probe={tested} />}
      {probe.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {probe.error.message}
        </p>
      )}
      {change.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {change.error.message}
        </p>
      )}
      <div className="flex gap-2">
        <button type="button" className={BUTTON} disabled={probe.isPending || wrongs.length > 0 || missing.length > 0} onClick={() => probe.mutate({ text: whole, destination: name })}>
          {probe.isPending ? "Testing…" : "Test it"}
        </button>
        <button
          type="button"
          className={`${BUTTON} border-petal text-petal`}
          disabled={wrongs.length > 0 || change.isPending}
          onClick={() =>
            change.mutate(
              { edits: [{ edit: "add_part", text }] },
              {
                onSuccess: () => {
                  onDone();
                  void navigate({ to: "/plan", search: { part: `destination:${name}` } });
                },
              },
            )
          }
        >
          {tested?.good === true ? "Add to the draft" : "Add to the draft untested"}
        </button>
      </div>
    </>
  );
}

function Form({ onDone }: { onDone: () => void }) {
  const [kind, setKind] = useState("http");
  const [name, setName] = useState("");
  const [text, setText] = useState<string | null>(null);
  const first = useFirstPlan("http", kind);
  const outline = useOutline(first.data?.text);
  const offered = outline.data?.parts.find((p) => p.part.startsWith("destination:") && p.kind === kind);
  const called = /^[A-Za-z0-9][A-Za-z0-9_-]*$/.test(name) ? name : `${kind}-out`;
  const begin = offered?.text.replace(/^\[destination\.[^\]]+\]/, `[destination.${called}]`);
  const shown = text ?? begin;
  const named = /\[destination\.["']?([^\]"']+)/.exec(shown ?? "")?.[1] ?? called;
  return (
    <div className="flex min-h-0 flex-col gap-3 overflow-y-auto" tabIndex={0} aria-label="The new destination">
      <div className="flex flex-wrap gap-4">
        <label className="flex flex-col gap-1 text-sm text-soft">
          What events go to
          <select
            value={kind}
            onChange={(e) => {
              setKind(e.target.value);
              setText(null);
            }}
            className={FIELD}
          >
            {KINDS.map((k) => (
              <option key={k.kind} value={k.kind}>
                {k.says} ({k.kind})
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Name
          <input
            value={name}
            onChange={(e) => {
              setName(e.target.value);
              setText(null);
            }}
            placeholder={`${kind}-out`}
            className={FIELD}
          />
        </label>
      </div>
      {shown === undefined ? <p className="text-sm text-soft">Loading…</p> : <Written name={named} text={shown} onText={setText} onDone={onDone} />}
    </div>
  );
}

export function AddDestination() {
  const [open, setOpen] = useState(false);
  return (
    <Sheet button="Add a destination" title="Add a destination" says="It is tested before it is saved, and goes into your draft; nothing is sent there until a route leads to it and the draft is applied." open={open} onOpenChange={setOpen}>
      <Form onDone={() => setOpen(false)} />
    </Sheet>
  );
}
