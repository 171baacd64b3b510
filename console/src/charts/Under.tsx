import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useRef } from "react";
import { Link } from "react-router";
import { api, type Event, got, type Schemas } from "../api/client";
import { moment, stretch, unix, withUnit } from "../lib/format";
import type { Question } from "../lib/question";
import { instant } from "../lib/span";

type Moved = Schemas["MovedSeries"];

/** What lies beneath a stretch: what moved most in it, what the log said anew, and what was changed; the worst first. */
export function Under({
  start,
  end,
  drawn,
  where,
  narrow,
  add,
  zoom,
  clear,
}: {
  start: number;
  end: number;
  drawn: boolean;
  /** Which hosts, as a filter. */
  where: string;
  /** Whether it is of the hosts that the chart asks for alone, and what changes that. */
  narrow: { on: boolean; set: () => void } | undefined;
  /** Puts another question beside those that are asked. */
  add: (question: Question) => void;
  zoom: () => void;
  clear: () => void;
}) {
  const span = { from: instant(start), to: instant(end) };
  const moved = useQuery({
    queryKey: ["moved", start, end, where],
    queryFn: () => got(api.POST("/api/v1/metrics/moved", { body: { ...span, where: where || null, limit: 10 } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const patterns = useQuery({
    queryKey: ["patterns", "under", start, end, where],
    queryFn: () =>
      got(
        api.POST("/api/v1/events/patterns", {
          body: { ...span, where: and(where, 'source ne "change"'), order: "new", limit: 8 },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const changes = useQuery({
    queryKey: ["changes", "under", start, end, where],
    queryFn: () =>
      got(api.POST("/api/v1/events/query", { body: { ...span, where: and(where, 'source eq "change"'), limit: 8 } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const said = patterns.data?.items.filter((p) => p.change === "new" || p.change === "more") ?? [];
  const beneath = useRef<HTMLElement>(null);
  const first = moved.data?.items[0];
  const at = `from=${Math.floor(start)}&to=${Math.ceil(end)}`;
  return (
    <>
      <div
        className={`mt-2 flex flex-wrap items-center gap-x-3 py-1 ${drawn ? "sticky bottom-0 z-10 border-base-300 border-t bg-base-100" : ""}`}
      >
        <h2 className="font-dense font-semibold text-primary">{stretch(start, end)}</h2>
        {drawn ? (
          <>
            <button type="button" className="btn btn-xs" onClick={zoom}>
              Zoom to it
            </button>
            <button type="button" className="btn btn-ghost btn-xs" onClick={clear}>
              Clear
            </button>
            <button
              type="button"
              className="touch min-w-0 truncate py-1 text-left font-dense text-sm underline"
              onClick={() => beneath.current?.scrollIntoView({ block: "start" })}
            >
              {first ? `moved most: ${told(first)}` : "what lies in it"}
            </button>
          </>
        ) : (
          <span className="font-dense text-ink-2 text-sm">drag across the lanes for another stretch</span>
        )}
      </div>
      <section aria-label="In the stretch" ref={beneath}>
        {narrow && (
          <label className="mb-1 flex w-fit cursor-pointer items-center gap-1.5 font-dense text-ink-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-xs" checked={narrow.on} onChange={narrow.set} />
            of the hosts in the chart alone
          </label>
        )}
        <div className="grid items-start gap-x-6 gap-y-4 font-dense md:grid-cols-3">
          <Column title="Moved most in the stretch" waiting={moved.isPending} empty={nothingMoved(moved.data)}>
            {moved.data?.items.map((one) => (
              <MovedRow key={`${one.metric} ${one.host} ${JSON.stringify(one.attributes)}`} one={one} add={add} />
            ))}
          </Column>
          <Column title="New or more in the logs" waiting={patterns.isPending} empty="nothing that was not said before">
            {said.map((one) => (
              <Row
                key={`${one.pattern} ${one.severity} ${one.source}`}
                right={one.change === "new" ? "new" : `${one.count} ×`}
                middle={one.hosts.slice(0, 2).join(", ")}
              >
                <Link className="hover:underline" to={`/events?${at}&where=${encodeURIComponent(eventsOf(one))}`}>
                  {one.pattern}
                </Link>
              </Row>
            ))}
          </Column>
          <Column title="Changed" waiting={changes.isPending} empty="nothing that is known of">
            {changes.data?.items.map((one: Event) => (
              <Row key={one.id} right={moment(unix(one.time), end)} middle={one.host}>
                <Link className="hover:underline" to={`/events/one/${one.id}`}>
                  {one.body}
                </Link>
              </Row>
            ))}
          </Column>
        </div>
      </section>
    </>
  );
}

function told(one: Moved): string {
  return `${one.host} ${one.metric} ${withUnit(one.before, one.unit)} → ${withUnit(one.during, one.unit)}`;
}

function eventsOf(one: Schemas["Pattern"]): string {
  return one.id ? `pattern eq "${one.id}"` : `source eq ${JSON.stringify(one.source)}`;
}

function and(where: string, other: string): string {
  return where ? `(${where}) and ${other}` : other;
}

function nothingMoved(answer: Schemas["MovedAnswer"] | undefined): string {
  return answer ? `nothing of ${answer.looked.toLocaleString("en")} series by as much as counts` : "";
}

function MovedRow({ one, add }: { one: Moved; add: (question: Question) => void }) {
  const of = Object.values(one.attributes).join(" ");
  const size = Math.abs(one.deviation);
  return (
    <Row
      middle={one.host}
      right={`${one.direction === "up" ? "+" : "−"} ${size < 10 ? size.toFixed(1) : Math.round(size)} ×`}
      title={`before ${withUnit(one.before, one.unit)}, in the stretch ${withUnit(one.during, one.unit)}${one.alike ? `; ${one.alike} more of it on this host` : ""}`}
    >
      <button
        type="button"
        className="cursor-pointer text-left hover:underline"
        onClick={() => add(questionOf(one))}
        title="put it beside what is shown"
      >
        {one.metric} <span className="text-ink-2">{of}</span>
      </button>
    </Row>
  );
}

/** The question whose answer is the series that moved. */
export function questionOf(one: Moved): Question {
  const terms = [["host", one.host], ...Object.entries(one.attributes)].map(
    ([name, value]) => `${name} eq ${JSON.stringify(value)}`,
  );
  return { take: one.take, metric: one.metric, by: ["host"], where: terms.join(" and ") };
}

function Column({
  title,
  waiting,
  empty,
  children,
}: {
  title: string;
  waiting: boolean;
  empty: string;
  children: ReactNode[] | undefined;
}) {
  return (
    <div>
      <h3 className="border-base-300 border-b pb-1 font-semibold text-ink-2 text-sm">{title}</h3>
      {children?.length ? (
        <ul>{children}</ul>
      ) : (
        <p className="py-1 text-ink-2 text-sm">{waiting ? "looking …" : empty}</p>
      )}
    </div>
  );
}

function Row({
  children,
  middle,
  right,
  title,
}: {
  children: ReactNode;
  middle: string;
  right: string;
  title?: string;
}) {
  return (
    <li className="flex items-baseline gap-2 border-base-300 border-b py-1 text-sm" title={title}>
      <span className="min-w-0 grow truncate">{children}</span>
      <span className="shrink-0 text-ink-2">{middle}</span>
      <span className="shrink-0 text-right font-semibold">{right}</span>
    </li>
  );
}
