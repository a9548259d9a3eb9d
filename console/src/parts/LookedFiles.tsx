/** Files that were looked into: which there are, of which kinds, and how the first events of each would be read. */
import type { LookedKind, SourceFile } from "../api/sources";
import { bytes, count, share } from "../lib/format";

/** So many files are listed. */
const LISTED = 100;

export function FileList({ files }: { files: SourceFile[] }) {
  return (
    <ul aria-label="Files" className="max-h-32 shrink-0 overflow-y-auto text-sm" tabIndex={0}>
      {files.slice(0, LISTED).map((f) => (
        <li key={f.path} className="flex gap-3">
          <code className="min-w-0 truncate font-mono text-xs">{f.path}</code>
          <span className="num text-xs text-soft">{bytes(f.size)}</span>
          <span className={["current", "behind", "copy"].includes(f.state) ? "text-xs text-soft" : "text-xs text-fails"}>{f.says}</span>
        </li>
      ))}
    </ul>
  );
}

export function Kinds({ kinds }: { kinds: LookedKind[] }) {
  return kinds.map((k) => (
    <section key={k.name} aria-label={`Source ${k.name}`} className="rounded bg-raised p-3 text-sm">
      <p>
        <strong>{k.name}</strong>: {k.recognised.says.replaceAll("`", "")}
        <span className="text-soft">
          {" "}
          ({count(k.file_count)} {k.file_count === 1 ? "file" : "files"}, {share(k.recognised.share, 1)} of the lines{k.recognised.time == null ? "" : `; the first is of ${k.recognised.time}`})
        </span>
      </p>
      {k.lines.slice(0, 2).map((line, i) => (
        <p key={i} className="font-mono text-xs break-words">
          <span className="text-soft">{line}</span>
          <br />
          {JSON.stringify(k.recognised.events[i] ?? null)}
        </p>
      ))}
    </section>
  ));
}

export function Added({ text }: { text: string }) {
  return (
    <pre className="shrink-0 overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs" tabIndex={0} aria-label="What is added to the plan">
      {text}
    </pre>
  );
}
