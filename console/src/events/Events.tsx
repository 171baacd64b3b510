import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Event, got } from "../api/client";
import { canBeAsked, onlyWith } from "../lib/filterText";
import { moment, plural, unix } from "../lib/format";
import { useEvents, useHistogram } from "../lib/queries";
import { WEIGHT_STATE, weight } from "../lib/states";
import { useSpan, withSpan } from "../lib/useSpan";
import { FilterField } from "../ui/FilterField";
import { Lanes } from "../ui/Lanes";
import { Empty, Failure, Waiting } from "../ui/Note";
import { SavedFilters } from "../ui/SavedFilters";
import { Signal } from "../ui/Signal";
import { EventLane } from "../ui/StateLane";

const FLOORS = [
  { value: "", name: "all severities" },
  { value: "notice", name: "notice and worse" },
  { value: "warning", name: "warning and worse" },
  { value: "error", name: "error and worse" },
] as const;

export function Component() {
  const [parameters, setParameters] = useSearchParams();
  const { span, now, brush } = useSpan();
  const text = parameters.get("text") ?? "";
  const where = parameters.get("where") ?? "";
  const floor = parameters.get("floor") ?? "";
  const saved = parameters.get("filter") ?? "";
  const [typed, setTyped] = useState(text);
  const [limit, setLimit] = useState(200);
  useEffect(() => setTyped(text), [text]);
  const keep = useCallback(
    (changes: Record<string, string>) =>
      setParameters((held) => {
        const next = new URLSearchParams(held);
        for (const [name, value] of Object.entries(changes)) {
          if (value.trim()) next.set(name, value);
          else next.delete(name);
        }
        return next;
      }),
    [setParameters],
  );
  const keepWhere = useCallback((wanted: string) => keep({ where: wanted }), [keep]);
  useEffect(() => {
    const timer = setTimeout(() => typed !== text && keep({ text: typed }), 400);
    return () => clearTimeout(timer);
  }, [typed, text, keep]);
  const filter = useMemo(() => {
    const parts = [where.trim() && `(${where})`, floor && `severity ge "${floor}"`].filter(Boolean);
    return parts.join(" and ");
  }, [where, floor]);
  const events = useEvents(text, filter, span, limit, saved);
  const histogram = useHistogram(text, filter, span, 90, saved);
  return (
    <>
      <div className="mb-1 flex flex-wrap items-start gap-x-3 gap-y-2">
        <h1 className="font-semibold text-xl leading-8">Events</h1>
        <label className="w-full md:w-64">
          <span className="sr-only">Text</span>
          <input
            className="input input-sm w-full"
            placeholder='words, "a phrase", begin*'
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
          />
        </label>
        <FilterField
          where={where}
          keep={keepWhere}
          placeholder='filter, like: host sw "gate-" and source ne "change"'
          found={histogram.data && plural(histogram.data.total, "event")}
        />
        <SavedFilters where={where} chosen={saved} choose={(name) => keep({ filter: name })} />
        <select
          className="select select-sm w-full md:w-44"
          aria-label="Severity"
          value={floor}
          onChange={(e) => keep({ floor: e.target.value })}
        >
          {FLOORS.map((f) => (
            <option key={f.value} value={f.value}>
              {f.name}
            </option>
          ))}
        </select>
      </div>
      {events.isError && <Failure error={events.error} />}
      <Lanes
        start={span.start}
        end={span.end}
        onDraw={brush}
        onClear={() => undefined}
        label="Events over time; drag to look closer"
      >
        <EventLane answer={histogram.data} name="How many" />
      </Lanes>
      {!events.data && !events.isError && <Waiting what="the events" lines={12} />}
      {events.data?.items.length === 0 && (
        <Empty title="No event matches in this span">
          Choose a longer span above, or take words away from the filter. Which files each agent follows, and whether it
          may read them, stands on the page of its host.
        </Empty>
      )}
      {events.data && events.data.items.length > 0 && (
        <List
          events={events.data.items}
          now={now}
          only={(attribute, value, has) => keep({ where: onlyWith(where, attribute, value, has) })}
        />
      )}
      {events.data?.next && (
        <button
          type="button"
          className="btn btn-sm mt-3"
          disabled={limit >= 1000}
          onClick={() => setLimit(Math.min(1000, limit * 2))}
        >
          {limit >= 1000 ? "Choose a shorter span to see older ones" : `Show more than ${plural(limit, "event")}`}
        </button>
      )}
    </>
  );
}

/** On a telephone the text has a line of its own. */
const GRID =
  "grid gap-x-3 grid-cols-[max-content_24px_minmax(0,1fr)_minmax(0,1fr)] md:grid-cols-[max-content_24px_120px_100px_minmax(0,1fr)]";

type Only = (attribute: string, value: unknown, has: boolean) => void;

function List({ events, now, only }: { events: Event[]; now: number; only: Only }) {
  const [open, setOpen] = useState<string>();
  const [parameters] = useSearchParams();
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
                <p className="whitespace-pre-wrap break-words">{event.body}</p>
                <Attributes event={event} only={only} />
                <Around event={event} now={now} />
                <p className="mt-2 flex gap-3">
                  <Link className="link" to={withSpan(`/fleet/${encodeURIComponent(event.host)}`, parameters)}>
                    Open {event.host}
                  </Link>
                </p>
              </div>
            )}
          </li>
        );
      })}
    </ul>
  );
}

/** All that is known of an event; each value can be asked for, or left out. */
function Attributes({ event, only }: { event: Event; only: Only }) {
  const known = { host: event.host, source: event.source, severity: event.severity, ...event.attributes };
  return (
    <dl className="mt-2 grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-x-3 text-ink-2 md:grid-cols-[200px_1fr]">
      {Object.entries(known).map(([name, value]) => (
        <div key={name} className="group contents">
          <dt>{name}</dt>
          <dd className="break-words">
            {String(value)}
            {canBeAsked(name) && (
              <span className="ml-2 whitespace-nowrap text-xs">
                <button
                  type="button"
                  className="link touch"
                  aria-label={`Only ${name} ${String(value)}`}
                  onClick={() => only(name, value, true)}
                >
                  only
                </button>{" "}
                <button
                  type="button"
                  className="link touch"
                  aria-label={`Without ${name} ${String(value)}`}
                  onClick={() => only(name, value, false)}
                >
                  without
                </button>
              </span>
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}

const SCOPES = [
  { value: "source", name: "Lines around it" },
  { value: "host", name: "All of the host around it" },
] as const;

/** What was said right before and after, by the same source or by all of the host. */
function Around({ event, now }: { event: Event; now: number }) {
  const [scope, setScope] = useState<"source" | "host">();
  const found = useQuery({
    queryKey: ["around", event.id, scope],
    queryFn: () =>
      got(
        api.GET("/api/v1/events/{number}/around", {
          params: { path: { number: event.id }, query: { scope, lines: 10 } },
        }),
      ),
    enabled: scope !== undefined,
  });
  const lines = found.data ? [...found.data.before, found.data.event, ...found.data.after] : [];
  return (
    <div className="mt-2">
      <p className="flex gap-3">
        {SCOPES.map((one) => (
          <button
            key={one.value}
            type="button"
            className="link touch"
            aria-pressed={scope === one.value}
            onClick={() => setScope(scope === one.value ? undefined : one.value)}
          >
            {one.name}
          </button>
        ))}
      </p>
      {found.isError && <Failure error={found.error} />}
      {scope && lines.length > 0 && (
        <ol className="mt-1" aria-label="Lines around it, oldest first">
          {lines.map((line) => (
            <li
              key={line.id}
              aria-current={line.id === event.id || undefined}
              className={`grid grid-cols-[max-content_minmax(0,1fr)] gap-x-3 md:grid-cols-[max-content_100px_minmax(0,1fr)] ${line.id === event.id ? "bg-base-300 font-semibold" : ""}`}
            >
              <span className="whitespace-nowrap text-ink-2">{moment(unix(line.time), now, true)}</span>
              <span className="grow-cell hidden text-ink-2 md:block">{line.source}</span>
              <span className="break-words">{line.body}</span>
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}
