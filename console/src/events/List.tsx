import { useState } from "react";
import type { Event } from "../api/client";
import { moment, unix } from "../lib/format";
import type { Span } from "../lib/span";
import { WEIGHT_STATE, weight } from "../lib/states";
import { Signal } from "../ui/Signal";
import { type Only, WholeEvent } from "./Line";

/** On a telephone the text has a line of its own. */
const GRID =
  "grid gap-x-3 grid-cols-[max-content_24px_minmax(0,1fr)_minmax(0,1fr)] md:grid-cols-[max-content_24px_120px_100px_minmax(0,1fr)]";

/** Events one below the other; one of them can be opened. */
export function List({ events, now, span, only }: { events: Event[]; now: number; span: Span; only: Only }) {
  const [open, setOpen] = useState<string>();
  return (
    <ul className="hairline mt-2 border-base-300 border-b font-dense text-sm" aria-label="Events, newest first">
      {events.map((event) => {
        const kind = weight(event.severity);
        const shown = open === event.id;
        return (
          <li key={event.id}>
            <button
              type="button"
              className={`${GRID} touch w-full py-0.5 text-left hover:bg-base-200`}
              aria-expanded={shown}
              onClick={() => setOpen(shown ? undefined : event.id)}
            >
              <span className="whitespace-nowrap text-ink-2">{moment(unix(event.time), now, true)}</span>
              <span title={event.severity}>
                {kind === "rest" ? (
                  <span className="sr-only">{event.severity}</span>
                ) : (
                  <Signal state={WEIGHT_STATE[kind]} size={15} label={event.severity} />
                )}
              </span>
              <span className="grow-cell font-semibold">{event.host}</span>
              <span className="grow-cell text-ink-2">{event.source}</span>
              <span className="col-span-4 line-clamp-2 md:col-span-1 md:line-clamp-1 md:break-all">{event.body}</span>
            </button>
            {shown && (
              <div className="bg-base-200 px-3 py-2 md:pl-[140px]">
                <WholeEvent event={event} now={now} span={span} only={only} />
              </div>
            )}
          </li>
        );
      })}
    </ul>
  );
}
