import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useRef, type ReactNode } from "react";

export type Column<T> = { title: string; number?: boolean; wide?: string; hidden?: boolean; cell: (row: T) => ReactNode };

/** From how many rows on only those are drawn that can be seen, and how high a row is, in pixels. */
const many = 120;
const height = 44;

/** Rows of one kind. What is wider than the page can be scrolled to, by keyboard as well. Columns that stay the same object have only rows drawn again that changed. */
export function Table<T>(props: { label: string; columns: Column<T>[]; rows: T[]; id: (row: T) => string; faded?: (row: T) => boolean; testid?: string }) {
  const columns = props.columns.some((c) => c.hidden) ? props.columns.filter((c) => !c.hidden) : props.columns;
  const frame = useRef<HTMLDivElement>(null);
  const tall = props.rows.length > many;
  const rows = useVirtualizer({ count: tall ? props.rows.length : 0, getScrollElement: () => frame.current, estimateSize: () => height, overscan: 12, getItemKey: (i) => props.id(props.rows[i] as T) });
  const seen = rows.getVirtualItems();
  const above = seen[0]?.start ?? 0;
  const below = rows.getTotalSize() - (seen.at(-1)?.end ?? 0);
  const draw = (row: T, i: number) => <Row key={props.id(row)} row={row} columns={columns as Column<unknown>[]} faded={props.faded?.(row) ?? false} index={tall ? i + 2 : undefined} />;
  return (
    <div ref={frame} className={`relative overflow-x-auto border-y border-rule ${tall ? "max-h-[70vh] overflow-y-auto" : ""}`} tabIndex={0} role="region" aria-label={props.label}>
      <table className="w-full text-left" data-testid={props.testid} aria-rowcount={tall ? props.rows.length + 1 : undefined}>
        <thead className={`text-small text-faded ${tall ? "sticky top-0 z-10 bg-paper" : ""}`}>
          <tr>
            {columns.map((c, i) => (
              <th key={i} scope="col" className={`py-2 font-normal whitespace-nowrap ${i < columns.length - 1 ? "pr-6" : ""} ${c.number ? "text-right" : ""}`}>
                {c.title || <span className="sr-only">Actions</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {tall && above > 0 && <tr aria-hidden style={{ height: above }} />}
          {tall ? seen.map((v) => draw(props.rows[v.index] as T, v.index)) : props.rows.map(draw)}
          {tall && below > 0 && <tr aria-hidden style={{ height: below }} />}
        </tbody>
      </table>
    </div>
  );
}

const Row = memo(function Row({ row, columns, faded, index }: { row: unknown; columns: Column<unknown>[]; faded: boolean; index?: number }) {
  return (
    <tr className={`h-11 border-t border-rule ${faded ? "text-faded" : ""}`} aria-rowindex={index}>
      {columns.map((c, i) => (
        <td key={i} className={`py-1.5 ${i < columns.length - 1 ? "pr-6" : ""} ${c.number ? "tabular text-right whitespace-nowrap" : ""} ${c.wide ?? ""}`}>
          {c.cell(row)}
        </td>
      ))}
    </tr>
  );
});
