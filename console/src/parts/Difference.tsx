/** An event before and after as one text: what went is struck through, what came is underlined. */
import { difference } from "../lib/diff";

export function Difference({ before, after }: { before: unknown; after: unknown }) {
  return (
    <>
      {difference(before, after).map((piece, i) =>
        piece.kind === "gone" ? (
          <del key={i} className="text-removed line-through decoration-1">
            {piece.text}
          </del>
        ) : piece.kind === "new" ? (
          <ins key={i} className="text-goes-on underline decoration-2 underline-offset-2">
            {piece.text}
          </ins>
        ) : (
          <span key={i}>{piece.text}</span>
        ),
      )}
    </>
  );
}
