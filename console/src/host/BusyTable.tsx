import type { ReactNode } from "react";

export interface Heading {
  name: string;
  right?: boolean;
  /** Left out where there is little room. */
  wide?: boolean;
}

/** A table of what was busy: dense, and on a telephone without what is said less often. */
export function BusyTable({ label, headings, children }: { label: string; headings: Heading[]; children: ReactNode }) {
  return (
    <table className="w-full border-collapse font-dense text-sm" aria-label={label}>
      <thead>
        <tr className="border-base-300 border-b text-ink-2">
          {headings.map((one) => (
            <th
              key={one.name}
              scope="col"
              className={`py-1 pr-3 font-normal ${one.right ? "text-right" : "text-left"} ${one.wide ? "max-lg:hidden" : ""}`}
            >
              {one.name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>{children}</tbody>
    </table>
  );
}

/** A row, as bright as it is wanted; `bar` is its share of the most, drawn beneath its first cell. */
export function BusyRow({
  cells,
  headings,
  chosen = false,
}: {
  cells: ReactNode[];
  headings: Heading[];
  chosen?: boolean;
}) {
  return (
    <tr
      aria-current={chosen || undefined}
      className={`border-base-300 border-b align-baseline ${chosen ? "bg-base-300" : "hover:bg-base-200"}`}
    >
      {headings.map((one, i) => (
        <td
          key={one.name}
          className={`py-1 pr-3 ${one.right ? "whitespace-nowrap text-right" : ""} ${one.wide ? "max-lg:hidden" : ""}`}
        >
          {cells[i]}
        </td>
      ))}
    </tr>
  );
}

/** A share of the most as a bar with its figure. */
export function Bar({ part, children }: { part: number; children: ReactNode }) {
  return (
    <span className="relative inline-block w-28 text-right">
      <span
        aria-hidden="true"
        className="absolute inset-y-0 right-0 bg-[var(--series-1)] opacity-25"
        style={{ width: `${Math.max(1, Math.min(100, part * 100))}%` }}
      />
      <span className="relative px-1">{children}</span>
    </span>
  );
}
