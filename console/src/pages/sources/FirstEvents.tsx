/** Waits for the first events of a source: shows them raw and as read, and offers the kit that fits; says what is wrong if nothing comes. */
import { useNavigate } from "@tanstack/react-router";
import { useEffect } from "react";

import { type CaughtRecord, type Source, useNext, useSources } from "../../api/client";
import { useChangeDraft, useOutline, usePlanDraft } from "../../api/plan";
import { useKits, useRecognised } from "../../api/sources";
import { BUTTON } from "../../design/buttons";
import { count, share } from "../../lib/format";
import { Difference } from "../../parts/Difference";
import { Sentence } from "../../parts/Sentence";
import { Records } from "../../parts/Next";
import { Lines } from "./Lines";

/** So many records are caught at once, and waited for so many seconds. */
const MOST = 5;
const WAIT = 20;

function Fitting({ source, records }: { source: string; records: CaughtRecord[] }) {
  // Somebody who sees events redacted is not shown them raw.
  const lines = records.map((r) => r.raw?.trimEnd() ?? "").filter((raw) => raw !== "").join("\n");
  const recognised = useRecognised(lines);
  const kits = useKits();
  const draft = usePlanDraft();
  const outline = useOutline(draft.data?.text);
  const change = useChangeDraft();
  const navigate = useNavigate();
  if (recognised.data === undefined) return null;
  const { says, steps, kits: names, share: fits, timed, events } = recognised.data;
  const has = (outline.data?.parts ?? []).map((p) => p.part);
  const parts = (kits.data ?? []).filter((k) => names.includes(k.name) && !has.includes(`recipe:${k.name}`)).map((k) => ({ edit: "add_part" as const, text: k.plan }));
  const known = outline.data?.parts.find((p) => p.part === `source:${source}`)?.steps.map((s) => s.sentence) ?? [];
  const missing = steps.filter((s) => !known.includes(s));
  return (
    <section aria-label="What it is" className="rounded border border-goes-on p-3 text-sm">
      <p>
        <span className="font-medium text-goes-on">✓ {says.replaceAll("`", "")}</span>
        {fits < 1 && <span className="text-soft"> ({share(fits, 1)} of the lines)</span>}
        {timed > 0 && <span className="text-soft">; the time is read in {share(timed, 1)} of the events</span>}
      </p>
      {steps.length === 0 ? (
        <p className="text-soft">It is read as it is; no step is needed.</p>
      ) : (
        <>
          <ol aria-label="Steps that read it" className="my-1">
            {steps.map((s) => (
              <li key={s}>
                <Sentence text={s} />
              </li>
            ))}
          </ol>
          {events[0] !== undefined && (
            <p className="font-mono text-xs break-words">
              <Difference before={records[0]?.read ?? {}} after={events[0]} />
            </p>
          )}
          {missing.length === 0 ? (
            <p className="text-goes-on">✓ the source is read so in your draft</p>
          ) : (
            <button
              type="button"
              className={`${BUTTON} mt-2 border-petal text-petal`}
              disabled={change.isPending}
              onClick={() =>
                change.mutate(
                  { edits: [...parts, ...missing.map((step) => ({ edit: "add_step" as const, part: `source:${source}`, step }))] },
                  { onSuccess: () => void navigate({ to: "/plan", search: { part: `source:${source}` } }) },
                )
              }
            >
              Read it so, in the draft
            </button>
          )}
        </>
      )}
      {change.error !== null && (
        <p role="alert" className="text-fails">
          ▲ {change.error.message}
        </p>
      )}
    </section>
  );
}

/** What keeps events from coming, as far as it is known. */
function Nothing({ source }: { source: Source }) {
  return (
    <div className="text-sm">
      <p aria-live="polite">
        <span className="text-waits">○ Nothing has come yet.</span> <span className="text-soft">{source.says}</span>
      </p>
      {source.troubles.map((t) => (
        <p key={`${t.what} ${t.says}`} className="text-fails">
          ▲ {t.says}
          {t.from != null && `, from ${t.from}`} ({t.times === 1 ? "once" : `${count(t.times)} times`}). <span className="text-ink">{t.remedy.replaceAll("`", "")}</span>
        </p>
      ))}
    </div>
  );
}

export function FirstEvents({ name, sentKey }: { name: string; sentKey: string | null }) {
  const sources = useSources();
  const next = useNext(name, MOST, WAIT);
  const source = sources.data?.find((s) => s.name === name);
  const records = next.data ?? [];
  const { isFetching, error, refetch } = next;
  // It goes on waiting until something comes.
  useEffect(() => {
    if (!isFetching && records.length === 0 && error === null) void refetch();
  }, [isFetching, records.length, error, refetch]);
  if (source === undefined) return <p className="text-sm text-soft">It begins to listen…</p>;
  return (
    <div className="flex flex-col gap-3">
      {sentKey !== null && (
        <p className="text-sm">
          Its key, shown this once: <code className="rounded bg-raised px-2 py-0.5 font-mono text-xs break-all">{sentKey}</code>
        </p>
      )}
      <Lines source={source} sentKey={sentKey} />
      {records.length === 0 ? (
        <Nothing source={source} />
      ) : (
        <>
          <p role="status" className="font-medium text-goes-on">
            ✓ The first events came{source.last_from == null ? "" : ` from ${source.last_from}`}.
          </p>
          <Records records={records} />
          <Fitting source={name} records={records} />
        </>
      )}
      {error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {error.message}
        </p>
      )}
    </div>
  );
}
