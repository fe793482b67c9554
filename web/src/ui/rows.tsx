// A short list that is edited in place: one line each, one more, or one less.
import type { ReactNode } from "react";

interface RowsProps<T> {
  rows: T[];
  onChange: (rows: T[]) => void;
  make: () => T;
  add: string;
  /** What one row is called when it is taken out. */
  name: (row: T) => string;
  /** Widths of the fields in a row, as grid columns; alike unless said. */
  columns?: string;
  children: (row: T, change: (part: Partial<T>) => void) => ReactNode;
}

export function Rows<T extends object>({ rows, onChange, make, add, name, columns, children }: RowsProps<T>) {
  return (
    <div className="space-y-3">
      {rows.map((row, i) => (
        // Rows have no name of their own and are only added at the end.
        <div key={i} className="flex flex-wrap items-end gap-3">
          <div
            className="grid flex-1 auto-cols-fr grid-flow-col items-end gap-3"
            style={columns ? { gridTemplateColumns: columns } : undefined}
          >
            {children(row, (part) => onChange(rows.map((old, j) => (j === i ? { ...old, ...part } : old))))}
          </div>
          <button
            type="button"
            className="pb-2 text-sm underline underline-offset-3"
            onClick={() => onChange(rows.filter((_, j) => j !== i))}
          >
            Remove<span className="sr-only"> {name(row)}</span>
          </button>
        </div>
      ))}
      <button
        type="button"
        className="text-sm underline underline-offset-3"
        onClick={() => onChange([...rows, make()])}
      >
        {add}
      </button>
    </div>
  );
}
