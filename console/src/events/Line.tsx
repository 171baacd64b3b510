import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Event, got } from "../api/client";
import { writerOf } from "../host/busy";
import { canBeAsked, onlyWith } from "../lib/filterText";
import { moment, unix } from "../lib/format";
import { useHistogram } from "../lib/queries";
import type { Span } from "../lib/span";
import { withSpan } from "../lib/useSpan";
import { Lanes } from "../ui/Lanes";
import { Failure } from "../ui/Note";
import { EventLane } from "../ui/StateLane";

export type Only = (attribute: string, value: unknown, has: boolean) => void;

/** All of one event: its text, its attributes, what was said around it, and where it leads. */
export function WholeEvent({ event, now, span, only }: { event: Event; now: number; span: Span; only: Only }) {
  const [parameters] = useSearchParams();
  return (
    <>
      <p className="whitespace-pre-wrap break-words">{event.body}</p>
      <Attributes event={event} only={only} span={span} />
      <Around event={event} now={now} />
      <p className="mt-2 flex flex-wrap gap-3">
        <Link className="link touch" to={withSpan(`/fleet/${encodeURIComponent(event.host)}`, parameters)}>
          Open {event.host}
        </Link>
        <Link className="link touch" to={writerPage(event)}>
          {writerOf(event) ? "The process that wrote it" : "What the host was busy with then"}
        </Link>
        {event.pattern && (
          <button type="button" className="link touch" onClick={() => only("pattern", event.pattern, true)}>
            All that say the same
          </button>
        )}
        <Link className="link touch" to={`/events/one/${event.id}`}>
          Link to this event
        </Link>
      </p>
    </>
  );
}

const AROUND = 300;

/** What the host was busy with around an event, at the process that wrote it where that is told. */
function writerPage(event: Event): string {
  const at = unix(event.time);
  const pid = writerOf(event);
  const asked = new URLSearchParams({ from: String(Math.floor(at - AROUND)), to: String(Math.ceil(at + AROUND)) });
  if (pid) asked.set("pid", String(pid));
  return `/fleet/${encodeURIComponent(event.host)}/processes?${asked}`;
}

/** All that is known of an event; each value can be asked for, left out, or counted over the span. */
function Attributes({ event, only, span }: { event: Event; only: Only; span: Span }) {
  const [counted, setCounted] = useState<{ name: string; value: unknown }>();
  const known = { host: event.host, source: event.source, severity: event.severity, ...event.attributes };
  return (
    <>
      <dl className="mt-2 grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-x-3 text-ink-2 md:grid-cols-[200px_1fr]">
        {Object.entries(known).map(([name, value]) => (
          <div key={name} className="group contents">
            <dt className="break-words">{name}</dt>
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
                  </button>{" "}
                  <button
                    type="button"
                    className="link touch"
                    aria-label={`Count ${name} ${String(value)} over the span`}
                    aria-pressed={counted?.name === name}
                    onClick={() => setCounted(counted?.name === name ? undefined : { name, value })}
                  >
                    over time
                  </button>
                </span>
              )}
            </dd>
          </div>
        ))}
      </dl>
      {counted && <OverTime name={counted.name} value={counted.value} span={span} />}
    </>
  );
}

/** How often a value was said, over the span. */
function OverTime({ name, value, span }: { name: string; value: unknown; span: Span }) {
  const answer = useHistogram("", onlyWith("", name, value), span, 90);
  if (answer.isError) return <Failure error={answer.error} />;
  return (
    <Lanes
      start={span.start}
      end={span.end}
      onDraw={() => undefined}
      onClear={() => undefined}
      label={`${name} ${String(value)} over the span`}
    >
      <EventLane answer={answer.data} name={String(value)} />
    </Lanes>
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
