/** The numbers of a drawing in a table, for those who read. */
import type { ReactNode } from "react";

interface TableBesideProps {
  label: string;
  /** The first column says when. */
  columns: string[];
  rows: { key: number; cells: ReactNode[] }[];
}

export function TableBeside({ label, columns, rows }: TableBesideProps) {
  return (
    <details className="text-sm">
      <summary className="cursor-pointer text-soft">As a table</summary>
      <div className="max-h-48 overflow-y-auto" tabIndex={0} role="region" aria-label={label}>
        <table className="w-full text-xs">
          <thead>
            <tr className="text-right text-soft">
              {columns.map((column, n) => (
                <th key={column} scope="col" className={`font-normal ${n === 0 ? "text-left" : ""}`}>
                  {column}
                </th>
              ))}
            </tr>
          </thead>
          <tbody className="num text-right">
            {rows.map((row) => (
              <tr key={row.key} className="border-t border-line">
                {row.cells.map((cell, n) =>
                  n === 0 ? (
                    <th key={n} scope="row" className="text-left font-normal">
                      {cell}
                    </th>
                  ) : (
                    <td key={n}>{cell}</td>
                  ),
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  );
}
