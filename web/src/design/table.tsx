import type { ReactNode } from "react";

export type Column<T> = { title: string; number?: boolean; wide?: string; hidden?: boolean; cell: (row: T) => ReactNode };

/** Rows of one kind. What is wider than the page can be scrolled to, by keyboard as well. */
export function Table<T>(props: { label: string; columns: Column<T>[]; rows: T[]; id: (row: T) => string; faded?: (row: T) => boolean; testid?: string }) {
  const columns = props.columns.filter((c) => !c.hidden);
  return (
    <div className="relative overflow-x-auto border-y border-rule" tabIndex={0} role="region" aria-label={props.label}>
      <table className="w-full text-left" data-testid={props.testid}>
        <thead className="text-small text-faded">
          <tr>
            {columns.map((c, i) => (
              <th key={i} scope="col" className={`py-2 font-normal whitespace-nowrap ${i < columns.length - 1 ? "pr-6" : ""} ${c.number ? "text-right" : ""}`}>
                {c.title || <span className="sr-only">Actions</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {props.rows.map((row) => (
            <tr key={props.id(row)} className={`h-11 border-t border-rule ${props.faded?.(row) ? "text-faded" : ""}`}>
              {columns.map((c, i) => (
                <td key={i} className={`${i < columns.length - 1 ? "pr-6" : ""} ${c.number ? "tabular text-right whitespace-nowrap" : ""} ${c.wide ?? ""}`}>
                  {c.cell(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
