import { keepPreviousData, type UseQueryResult, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { instant, type Span } from "../lib/span";
import { Failure, Waiting } from "../ui/Note";

/** What is asked of a host over a span, by what it is of. */
export function useBusy<T>(
  what: string,
  host: string,
  of: string,
  span: Span,
  ask: (asked: { from: string; to: string; limit: number }) => Promise<T>,
) {
  return useQuery({
    queryKey: ["busy", what, host, of, span.start, span.end],
    queryFn: () => ask({ from: instant(span.start), to: instant(span.end), limit: MOST }),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** While there is no answer yet, or none comes. */
export function NotYet({ answer, what }: { answer: UseQueryResult<unknown>; what: string }) {
  if (answer.isError) return <Failure error={answer.error} again={() => void answer.refetch()} />;
  return <Waiting what={what} lines={8} />;
}

const MOST = 100;

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

/** A row, marked where it is the one that was looked for. */
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
