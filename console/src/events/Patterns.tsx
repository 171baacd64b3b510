import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { eventsPanel } from "../dashboards/pinned";
import { asked as askedOf } from "../lib/asks";
import { onlyWith } from "../lib/filterText";
import { moment, plural, unix } from "../lib/format";
import { WEIGHT_STATE, weight } from "../lib/states";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { AskBar } from "./AskBar";
import { EventsNav } from "./Nav";
import { useAsked } from "./useAsked";

type Pattern = Schemas["Pattern"];
const ORDERS = [
  ["new", "new and suddenly frequent first"],
  ["count", "the most frequent first"],
] as const;
const CHANGES: Record<Pattern["change"], string> = { new: "new", more: "more", less: "less", same: "" };

/** What the log says: lines that say the same with other values are one row. */
export function Component() {
  const { span, now } = useSpan();
  const asked = useAsked();
  const [parameters] = useSearchParams();
  const order = parameters.get("order") === "count" ? "count" : "new";
  const { text, filter, saved, where } = asked;
  const answer = useQuery({
    queryKey: ["patterns", text, filter, span.start, span.end, saved, order],
    queryFn: () =>
      got(api.POST("/api/v1/events/patterns", { body: { ...askedOf(text, filter, saved, span), order, limit: 200 } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const found = answer.data;
  const lines = (pattern: Pattern) => {
    const next = new URLSearchParams(parameters);
    next.delete("order");
    next.set("where", onlyWith(where, "pattern", pattern.id));
    return `/events?${next}`;
  };
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">Patterns</h1>
      <EventsNav />
      <AskBar asked={asked} found={found && plural(found.events, "event")}>
        <select
          className="select select-sm w-full md:w-60"
          aria-label="Order"
          value={order}
          onChange={(e) => asked.keep({ order: e.target.value === "new" ? "" : e.target.value })}
        >
          {ORDERS.map(([value, name]) => (
            <option key={value} value={value}>
              {name}
            </option>
          ))}
        </select>
        {!saved && <Pin panel={() => eventsPanel("patterns", text, filter)} />}
      </AskBar>
      {answer.isError && <Failure error={answer.error} />}
      {!found && !answer.isError && <Waiting what="the patterns" lines={10} />}
      {found?.items.length === 0 && (
        <Empty title="Nothing was said in this span">Choose a longer span above, or take words away.</Empty>
      )}
      {found && found.items.length > 0 && (
        <>
          <p className="mt-2 text-ink-2 text-sm">
            {plural(found.events, "event")} say {plural(found.total, "thing")}.
          </p>
          <div className="relative overflow-x-auto">
            <table className="mt-1 w-full border-collapse font-dense text-sm">
              <thead>
                <tr className="border-base-300 border-b text-left text-ink-2">
                  <th scope="col" className="py-1 pr-3 font-normal">
                    <span className="sr-only">Change</span>
                  </th>
                  <th scope="col" className="py-1 pr-3 text-right font-normal">
                    times
                  </th>
                  <th scope="col" className="py-1 pr-3 text-right font-normal">
                    share
                  </th>
                  <th scope="col" className="py-1 pr-3 text-right font-normal">
                    yesterday
                  </th>
                  <th scope="col" className="py-1 pr-3 text-right font-normal">
                    a week ago
                  </th>
                  <th scope="col" className="py-1 pr-3 font-normal">
                    pattern
                  </th>
                  <th scope="col" className="py-1 pr-3 font-normal">
                    source
                  </th>
                  <th scope="col" className="py-1 pr-3 font-normal">
                    hosts
                  </th>
                  <th scope="col" className="py-1 font-normal">
                    first seen
                  </th>
                </tr>
              </thead>
              <tbody>
                {found.items.map((pattern) => (
                  <Row key={`${pattern.id} ${pattern.source} ${pattern.severity}`} pattern={pattern} now={now}>
                    {pattern.id ? (
                      <Link className="hover:underline" to={lines(pattern)} title={pattern.example}>
                        {pattern.pattern || "(a line without words)"}
                      </Link>
                    ) : (
                      pattern.pattern
                    )}
                  </Row>
                ))}
              </tbody>
            </table>
          </div>
          {found.items.length < found.total && (
            <p className="mt-2 text-ink-2 text-sm">
              The first {found.items.length} of {found.total}: a filter or a shorter span shows the others.
            </p>
          )}
        </>
      )}
    </>
  );
}

function Row({ pattern, now, children }: { pattern: Pattern; now: number; children: React.ReactNode }) {
  const kind = weight(pattern.severity);
  const hosts = pattern.hosts.slice(0, 2).join(", ");
  return (
    <tr className="border-base-300 border-b align-top">
      <td className="whitespace-nowrap py-1 pr-3">
        <span className={pattern.change === "new" || pattern.change === "more" ? "font-semibold" : "text-ink-2"}>
          {CHANGES[pattern.change]}
        </span>
      </td>
      <td className="py-1 pr-3 text-right tabular-nums">{String(pattern.count)}</td>
      <td className="whitespace-nowrap py-1 pr-3 text-right tabular-nums">{(pattern.share * 100).toFixed(1)} %</td>
      <td className="py-1 pr-3 text-right text-ink-2 tabular-nums">
        {pattern.yesterday === null ? "" : String(pattern.yesterday)}
      </td>
      <td className="py-1 pr-3 text-right text-ink-2 tabular-nums">
        {pattern.last_week === null ? "" : String(pattern.last_week)}
      </td>
      <td className="break-words py-1 pr-3" style={{ minWidth: "16rem" }}>
        {kind !== "rest" && <Signal state={WEIGHT_STATE[kind]} size={15} label={pattern.severity} />} {children}
      </td>
      <td className="break-words py-1 pr-3 text-ink-2">{pattern.source}</td>
      <td className="py-1 pr-3" title={pattern.hosts.join(", ")}>
        {hosts}
        {pattern.host_count > 2 ? ` and ${pattern.host_count - 2} more` : ""}
      </td>
      <td className="whitespace-nowrap py-1 text-ink-2">
        {pattern.first_seen ? moment(unix(pattern.first_seen), now) : ""}
      </td>
    </tr>
  );
}
