/** What an empty service shows: a first plan to copy, by what comes in and where it goes. */
import { useState } from "react";

import { useFirstPlan } from "../../api/client";
import { BUTTON } from "../../design/buttons";
import { Paste } from "../../parts/Message";

const SOURCES = ["http", "otlp", "syslog", "tcp", "file"];
const DESTINATIONS = ["file", "http", "otlp", "syslog", "mail", "archive", "discard"];

function Choice({ label, kinds, value, onChange }: { label: string; kinds: string[]; value: string; onChange: (kind: string) => void }) {
  return (
    <label className="flex items-center gap-2 text-sm">
      {label}
      <select value={value} onChange={(e) => onChange(e.target.value)} className="rounded border border-line bg-surface px-2 py-1">
        {kinds.map((kind) => (
          <option key={kind}>{kind}</option>
        ))}
      </select>
    </label>
  );
}

export function FirstPlan() {
  const [from, setFrom] = useState("http");
  const [to, setTo] = useState("file");
  const [copied, setCopied] = useState("");
  const { data, error } = useFirstPlan(from, to);
  const text = data?.text ?? "";
  return (
    <section aria-label="A first plan" className="card max-w-4xl p-5">
      <h1 className="font-semibold">The plan is empty.</h1>
      <p className="mt-1 text-sm text-soft">Nothing arrives and nothing is delivered yet. Begin with this plan: choose what comes in and where it goes, save it as plan.toml, and apply it.</p>
      <div className="mt-3 flex flex-wrap items-center gap-x-6 gap-y-2">
        <Choice label="What comes in" kinds={SOURCES} value={from} onChange={setFrom} />
        <Choice label="Where it goes" kinds={DESTINATIONS} value={to} onChange={setTo} />
        <button type="button" className={BUTTON} disabled={text === ""} onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(text))}>
          {copied === text && text !== "" ? "Copied" : "Copy"}
        </button>
      </div>
      {error !== null && (
        <p role="alert" className="mt-2 text-sm text-fails">
          {error.message}
        </p>
      )}
      <Paste line={text} />
      <p className="mt-3 text-sm text-soft">The client writes it as well:</p>
      <Paste line={`rockrose new-plan --from ${from} --to ${to} --output plan.toml\nrockrose check plan.toml\nrockrose apply plan.toml`} />
    </section>
  );
}
