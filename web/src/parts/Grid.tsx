import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, type ReactNode } from "react";

export interface Column<T> {
  name: string;
  /** A CSS grid track. */
  width: string;
  cell: (row: T) => ReactNode;
  right?: boolean;
  /** The service can order by it. */
  sort?: string;
}

interface GridProps<T> {
  label: string;
  columns: Column<T>[];
  count: number;
  /** The row at a place, or undefined while it is being read. */
  row: (i: number) => T | undefined;
  keyOf: (row: T) => string | number;
  height: string;
  rowHeight?: number;
  sort?: string;
  descending?: boolean;
  onSort?: (sort: string) => void;
  /** Told which rows are in sight. */
  onSight?: (first: number, last: number) => void;
  selected?: (row: T) => boolean;
  minWidth?: string;
}

/** A table of any length: only the rows in sight are drawn. */
export function Grid<T>(p: GridProps<T>) {
  const box = useRef<HTMLDivElement>(null);
  const rowHeight = p.rowHeight ?? 34;
  const { onSight } = p;
  // The rule warns those who use the compiler, which this console does not.
  // eslint-disable-next-line react-hooks/incompatible-library
  const rows = useVirtualizer({
    count: p.count,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 6,
    onChange: (v) => {
      const { startIndex, endIndex } = v.range ?? { startIndex: 0, endIndex: 0 };
      onSight?.(startIndex, endIndex);
    },
  });
  const tracks = { gridTemplateColumns: p.columns.map((c) => c.width).join(" ") };
  return (
    <div
      ref={box}
      role="table"
      aria-label={p.label}
      aria-rowcount={p.count + 1}
      tabIndex={0}
      className="overflow-auto"
      style={{ height: p.height }}
    >
      <div role="rowgroup" className="sticky top-0 z-1 bg-sheet" style={{ minWidth: p.minWidth }}>
        <div role="row" className="grid gap-3 border-b border-line px-3 text-xs text-soft" style={tracks}>
          {p.columns.map((c) => {
            const here = c.sort !== undefined && c.sort === p.sort;
            return (
              <div
                key={c.name}
                role="columnheader"
                aria-sort={here ? (p.descending ? "descending" : "ascending") : undefined}
                className={`py-1.5 font-medium ${c.right ? "text-right" : ""}`}
              >
                {c.sort !== undefined && p.onSort ? (
                  <button
                    type="button"
                    className="underline decoration-line underline-offset-4 hover:decoration-timber"
                    onClick={() => {
                      p.onSort?.(c.sort ?? "");
                    }}
                  >
                    {c.name}
                    {here && (p.descending ? " ▾" : " ▴")}
                  </button>
                ) : (
                  c.name
                )}
              </div>
            );
          })}
        </div>
      </div>
      <div role="rowgroup" className="relative" style={{ height: rows.getTotalSize(), minWidth: p.minWidth }}>
        {rows.getVirtualItems().map((v) => {
          const row = p.row(v.index);
          return (
            <div
              key={row === undefined ? `place-${v.index}` : p.keyOf(row)}
              role="row"
              aria-rowindex={v.index + 2}
              className={`absolute inset-x-0 grid items-center gap-3 border-b border-line px-3 text-sm ${row !== undefined && p.selected?.(row) ? "bg-wash" : ""}`}
              style={{ ...tracks, height: rowHeight, transform: `translateY(${v.start}px)` }}
            >
              {row === undefined ? (
                <div role="cell" className="text-soft">
                  reading …
                </div>
              ) : (
                p.columns.map((c) => (
                  <div
                    key={c.name}
                    role="cell"
                    className={`min-w-0 truncate ${c.right ? "num text-right" : ""}`}
                  >
                    {c.cell(row)}
                  </div>
                ))
              )}
            </div>
          );
        })}
      </div>
    </div>
  );
}
