/** The next records of a source: as they come, and beneath each what it was read as. */
import { type CaughtRecord, useNext } from "../api/client";
import { BUTTON } from "../design/buttons";
import { Sheet } from "./Sheet";

/** How many are waited for, and for how many seconds. */
const MOST = 5;
const WAIT = 15;

function Line({ word, colour, children }: { word: string; colour: string; children: string }) {
  return (
    <p className="grid grid-cols-[6rem_1fr] gap-3">
      <span className={colour}>{word}</span>
      <code className="min-w-0 font-mono text-xs break-words whitespace-pre-wrap">{children}</code>
    </p>
  );
}

function Record({ record }: { record: CaughtRecord }) {
  const [read, after] = [record.read, record.after].map((event) => (event === null || event === undefined ? null : JSON.stringify(event)));
  return (
    <li className="flex flex-col gap-0.5 border-t border-line py-2">
      {typeof record.raw === "string" && (
        <Line word="came" colour="text-soft">
          {record.raw.trimEnd()}
        </Line>
      )}
      {typeof record.unreadable === "string" ? (
        <Line word="not read" colour="text-fails">
          {record.unreadable}
        </Line>
      ) : (
        <Line word="read as" colour="text-goes-on">
          {read ?? ""}
        </Line>
      )}
      {typeof record.stopped_by === "string" ? (
        <Line word="stopped by" colour="text-removed">
          {record.stopped_by}
        </Line>
      ) : (
        typeof after === "string" &&
        after !== read && (
          <Line word="goes on" colour="text-goes-on">
            {after}
          </Line>
        )
      )}
    </li>
  );
}

/** Records as they came, and beneath each what it was read as. */
export function Records({ records }: { records: CaughtRecord[] }) {
  return (
    <ol className="max-h-72 min-h-0 shrink-0 overflow-y-auto text-sm" tabIndex={0} aria-label="Records">
      {records.map((record, i) => (
        <Record key={i} record={record} />
      ))}
    </ol>
  );
}

function NextRecords({ source }: { source: string }) {
  const next = useNext(source, MOST, WAIT);
  if (next.isFetching) {
    return <p className="text-sm text-soft">Waiting for the next {MOST} records, for {WAIT} seconds at the most…</p>;
  }
  return (
    <>
      {next.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {next.error.message}
        </p>
      )}
      {next.data?.length === 0 && <p className="text-sm text-soft">Nothing came within {WAIT} seconds.</p>}
      <Records records={next.data ?? []} />
      <button type="button" className={`${BUTTON} self-start`} onClick={() => void next.refetch()}>
        The next {MOST}
      </button>
    </>
  );
}

/** A button that opens them. */
export function NextButton({ source, className }: { source: string; className: string }) {
  return (
    <Sheet button="Raw and read" className={className} title="Raw and read" says={`The next records that arrive at source ${source}, raw and as they were read, before any route.`}>
      <NextRecords source={source} />
    </Sheet>
  );
}
