/** A table with a heading above it; an empty one says so in a sentence. */
import type { ReactNode } from "react";

interface TableProps {
  id: string;
  title: string;
  says?: ReactNode;
  head: string[];
  rows: { key: string | number; cells: ReactNode[]; actions?: ReactNode }[];
  empty: string;
  children?: ReactNode;
}

export function Table({ id, title, says, head, rows, empty, children }: TableProps) {
  return (
    <section aria-labelledby={id} className="mt-8">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2">
        <h2 id={id} className="text-lg font-semibold">
          {title}
        </h2>
        {says !== undefined && <div className="text-sm text-soft">{says}</div>}
      </div>
      {rows.length === 0 ? (
        <p className="text-sm text-soft">{empty}</p>
      ) : (
        <div className="card relative overflow-x-auto">
          <table className="w-full text-sm">
            <thead>
              <tr className="text-left text-soft">
                {head.map((h) => (
                  <th key={h} scope="col" className="px-3 py-2 font-medium">
                    {h}
                  </th>
                ))}
                {rows.some((r) => r.actions !== undefined) && (
                  <th scope="col">
                    <span className="sr-only">Actions</span>
                  </th>
                )}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.key} className="border-t border-line align-baseline">
                  {row.cells.map((cell, i) => (
                    <td key={head[i]} className="num px-3 py-1.5">
                      {cell}
                    </td>
                  ))}
                  {row.actions !== undefined && <td className="px-3 py-1 text-right whitespace-nowrap">{row.actions}</td>}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {children}
    </section>
  );
}
