/** A sentence from drop-downs: what is chosen is written as the sentence that one would type. */
import { type ReactNode, useId, useState } from "react";

import { type FieldSummary, useFields } from "../api/survey";
import { BUTTON } from "../design/buttons";
import { FIELD } from "../design/fields";
import { share } from "../lib/format";
import { fieldName, joined, literal } from "../lib/sentences";

const COMPARISONS = ["=", "!=", ">", ">=", "<", "<=", "contains", "starts with", "ends with", "exists"];
const SEVERITIES = ["trace", "debug", "info", "warn", "error", "fatal"];
/** What the detectors find, by their words. */
const DETECTORS = ["email", "card", "iban", "phone", "national_id", "ipv4", "ipv6", "mac", "secret", "url_password", "private_key"];
const NO_FIELDS: FieldSummary[] = [];

function Choice({ label, value, onChange, children }: { label: string; value: string; onChange: (value: string) => void; children: ReactNode }) {
  return (
    <select aria-label={label} value={value} onChange={(e) => onChange(e.target.value)} className={`${FIELD} max-w-56`}>
      {children}
    </select>
  );
}

function FieldChoice({ label, fields, value, none, onChange }: { label: string; fields: FieldSummary[]; value: string; none?: string; onChange: (name: string) => void }) {
  return (
    <Choice label={label} value={value} onChange={onChange}>
      {none !== undefined && <option value="">{none}</option>}
      {fields.map((f) => (
        <option key={f.name} value={f.name}>
          {f.name} – {share(f.share, 1)}
        </option>
      ))}
    </Choice>
  );
}

interface Compared {
  field: string;
  comparison: string;
  value: string;
}

function useComparison(fields: FieldSummary[]) {
  const [chosen, setChosen] = useState<Compared>({ field: "", comparison: "=", value: "" });
  const field = chosen.field === "" ? (fields[0]?.name ?? "") : chosen.field;
  const of = fields.find((f) => f.name === field);
  const isNumber = of?.kinds[0]?.what === "number";
  const severity = field === "severity";
  const values = severity ? SEVERITIES : (of?.top ?? []).map((v) => v.what).filter((v) => !v.includes("***"));
  const value = chosen.value === "" ? (values[0] ?? "") : chosen.value;
  const written = severity ? value : literal(value, isNumber);
  const sentence = field === "" ? "" : chosen.comparison === "exists" ? `${fieldName(field)} exists` : `${fieldName(field)} ${chosen.comparison} ${written}`;
  const row = (
    <>
      <FieldChoice label="Field" fields={fields} value={field} onChange={(name) => setChosen({ ...chosen, field: name, value: "" })} />
      <Choice label="Comparison" value={chosen.comparison} onChange={(comparison) => setChosen({ ...chosen, comparison })}>
        {COMPARISONS.map((c) => (
          <option key={c}>{c}</option>
        ))}
      </Choice>
      {chosen.comparison !== "exists" && <ValueField values={values} value={value} onChange={(v) => setChosen({ ...chosen, value: v })} />}
    </>
  );
  return { sentence, row };
}

function ValueField({ values, value, onChange }: { values: string[]; value: string; onChange: (value: string) => void }) {
  const id = useId();
  return (
    <>
      <input aria-label="Value" list={id} value={value} onChange={(e) => onChange(e.target.value)} className={`${FIELD} w-48 font-mono text-xs`} />
      <datalist id={id}>
        {values.map((v) => (
          <option key={v} value={v} />
        ))}
      </datalist>
    </>
  );
}

function Small({ label, value, onChange }: { label: string; value: string; onChange: (value: string) => void }) {
  return <input aria-label={label} value={value} onChange={(e) => onChange(e.target.value)} className={`${FIELD} w-24`} />;
}

interface BuildProps {
  kind: "step" | "condition";
  point: string | undefined;
  written: string;
  onWrite: (sentence: string) => void;
}

export function Build({ kind, point, written, onWrite }: BuildProps) {
  const { data } = useFields({ point: point ?? "", when: "" });
  const fields = data?.fields ?? NO_FIELDS;
  return (
    <div className="flex flex-wrap items-center gap-2 border-t border-line px-1 pt-2" role="group" aria-label="Build the sentence">
      {fields.length === 0 && <p className="text-sm text-soft">No events were seen here yet, so there are no fields to choose from.</p>}
      {fields.length > 0 && (kind === "condition" ? <BuildCondition fields={fields} written={written} onWrite={onWrite} /> : <BuildStep fields={fields} onWrite={onWrite} />)}
    </div>
  );
}

function BuildCondition({ fields, written, onWrite }: { fields: FieldSummary[]; written: string; onWrite: (sentence: string) => void }) {
  const [by, setBy] = useState<"and" | "or">("and");
  const { sentence, row } = useComparison(fields);
  return (
    <>
      {written.trim() !== "" && (
        <Choice label="Joined by" value={by} onChange={(word) => setBy(word === "or" ? "or" : "and")}>
          <option>and</option>
          <option>or</option>
        </Choice>
      )}
      {row}
      <button type="button" className={BUTTON} onClick={() => onWrite(joined(written, by, sentence))}>
        Write it
      </button>
    </>
  );
}

const STEPS = ["drop", "keep", "redact", "remove", "sample", "limit", "merge repeats", "trim", "tag"] as const;
type Verb = (typeof STEPS)[number];

function BuildStep({ fields, onWrite }: { fields: FieldSummary[]; onWrite: (sentence: string) => void }) {
  const [verb, setVerb] = useState<Verb>("drop");
  const [found, setFound] = useState("email");
  const [field, setField] = useState("");
  const [number, setNumber] = useState("10");
  const [name, setName] = useState("team");
  const [value, setValue] = useState("");
  const { sentence: condition, row } = useComparison(fields);
  const of = field === "" ? "" : fieldName(field);
  const first = fieldName(field === "" ? (fields[0]?.name ?? "") : field);
  const sentences: Record<Verb, string> = {
    drop: `drop ${condition}`,
    keep: `keep ${condition}`,
    redact: `redact ${found}${of === "" ? "" : ` in ${of}`}`,
    remove: `remove ${first}`,
    sample: `sample 1 in ${number}${of === "" ? "" : ` by ${of}`} unless severity >= warn`,
    limit: `limit ${number} per second${of === "" ? "" : ` by ${of}`}`,
    "merge repeats": `merge repeats within ${number} seconds by ${first}`,
    trim: `trim ${first} to ${number} B`,
    tag: `tag ${name} = ${literal(value, false)}`,
  };
  const numbered = { sample: "One in so many", limit: "Events a second", "merge repeats": "Seconds", trim: "Bytes" } as Partial<Record<Verb, string>>;
  const label = numbered[verb];
  return (
    <>
      <Choice label="What is done" value={verb} onChange={(v) => setVerb(v as Verb)}>
        {STEPS.map((v) => (
          <option key={v}>{v}</option>
        ))}
      </Choice>
      {(verb === "drop" || verb === "keep") && row}
      {verb === "redact" && (
        <Choice label="What is looked for" value={found} onChange={setFound}>
          {DETECTORS.map((d) => (
            <option key={d}>{d}</option>
          ))}
        </Choice>
      )}
      {label !== undefined && <Small label={label} value={number} onChange={setNumber} />}
      {["redact", "sample", "limit"].includes(verb) && <FieldChoice label="Field" fields={fields} value={field} none={verb === "redact" ? "every text" : "all together"} onChange={setField} />}
      {["remove", "merge repeats", "trim"].includes(verb) && <FieldChoice label="Field" fields={fields} value={field === "" ? (fields[0]?.name ?? "") : field} onChange={setField} />}
      {verb === "tag" && (
        <>
          <Small label="Name of the tag" value={name} onChange={setName} />
          <Small label="Value of the tag" value={value} onChange={setValue} />
        </>
      )}
      <button type="button" className={BUTTON} onClick={() => onWrite(sentences[verb])}>
        Write it
      </button>
    </>
  );
}
