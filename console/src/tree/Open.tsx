import { Link, useSearchParams } from "react-router";
import type { Incident } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan, withSpan } from "../lib/useSpan";
import { Signal } from "../ui/Signal";

/** Open incidents, a line each. */
export function Open({ incidents }: { incidents: Incident[] }) {
  const { now } = useSpan();
  const [parameters] = useSearchParams();
  if (!incidents.length) return null;
  return (
    <ul aria-label="Open incidents" className="mb-3 border-base-300 border-y font-dense">
      {incidents.map((one) => (
        <li key={one.id} className="flex items-baseline gap-2 py-1">
          <span className="self-center">
            <Signal state={one.recovered_at ? "ok" : one.severity} size={16} />
          </span>
          <Link className="min-w-0 grow truncate hover:underline" to={withSpan(`/incidents/${one.id}`, parameters)}>
            {one.title}
          </Link>
          <span className="shrink-0 text-ink-2 text-sm">
            since {moment(unix(one.opened_at), now)}, {one.taken_by ? `${one.taken_by} has it` : "nobody has it"}
          </span>
        </li>
      ))}
    </ul>
  );
}
