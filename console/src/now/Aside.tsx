import { useQueries, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type Event, got, type Host, type Incident } from "../api/client";
import { duration, moment, plural, unix } from "../lib/format";
import { useRules } from "../lib/queries";
import { withSpan } from "../lib/useSpan";
import { forecastOf, soonest, watchesRunningOut } from "../rules/forecasts";
import { Courses } from "../rules/RunsOut";
import { Signal } from "../ui/Signal";
import { someOf } from "./board";
import { changesThatMatter } from "./changed";

const SOON = 7 * 86_400;
const MOST = 6;
/** How sources are whose lines came and come no more, or cannot be read. */
const STOPPED = ["stopped", "held-back", "unreadable"] as const;

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="min-w-0">
      <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">{title}</h2>
      <div className="border-base-300 border-t pt-1 font-dense">{children}</div>
    </section>
  );
}

function Nothing({ children }: { children: ReactNode }) {
  return <p className="text-ink-2 text-sm">{children}</p>;
}

/** What changed lately that matters: what was changed shortly before an incident first. */
export function ChangedLately({ events, incidents, now }: { events: Event[]; incidents: Incident[]; now: number }) {
  const found = changesThatMatter(events, incidents, MOST);
  return (
    <Part title="Changed in the last 24 hours">
      {!found.length && <Nothing>Nothing was changed.</Nothing>}
      <ul className="hairline text-sm">
        {found.map((one) => (
          <li key={one.event.id} className="py-1">
            <Link className="touch block min-h-6 hover:underline" to={`/events/one/${one.event.id}`}>
              <span className="text-ink-2">{moment(unix(one.event.time), now)}</span>{" "}
              <span className="font-semibold">{someOf(one.hosts, 1)}</span> {one.event.body}
            </Link>
            {one.incident && (
              <span className="block text-ink-2">
                {one.before && `${duration(unix(one.incident.opened_at) - unix(one.event.time))} before `}
                <Link className="link touch inline-flex min-h-6 items-center" to={`/incidents/${one.incident.id}`}>
                  incident {one.incident.id}
                </Link>
                {!one.before && ", on a host of it"}
              </span>
            )}
          </li>
        ))}
      </ul>
    </Part>
  );
}

/** What will run out within a week, of all that rules about running out watch. */
export function RunningOut({ now }: { now: number }) {
  const rules = useRules();
  const watching = (rules.data?.items ?? []).filter((rule) => rule.enabled && watchesRunningOut(rule)).slice(0, 8);
  const answers = useQueries({ queries: watching.map((rule) => forecastOf(rule, "7d")) });
  const courses = soonest(
    answers.flatMap((answer) => answer.data?.series ?? []),
    MOST,
  ).filter((one) => (one.reaches_at ?? 0) < now + SOON);
  const waiting = rules.isPending || answers.some((one) => one.isPending);
  return (
    <Part title="Runs out this week">
      {!courses.length && (
        <Nothing>
          {waiting ? "…" : watching.length ? "Nothing, by where it goes now." : "No rule watches for it."}
        </Nothing>
      )}
      <Courses courses={courses} />
    </Part>
  );
}

/** Where data stopped: hosts that are silent, services that are not read, logs that come no more. */
export function Stopped({ hosts, now }: { hosts: Host[]; now: number }) {
  const [parameters] = useSearchParams();
  const sources = useQueries({
    queries: STOPPED.map((state) => ({
      queryKey: ["sources", "of", state],
      queryFn: () => got(api.GET("/api/v1/sources", { params: { query: { state } } })),
      refetchInterval: 30_000,
      retry: false,
    })),
  });
  const services = useQuery({
    queryKey: ["services", "all"],
    queryFn: () => got(api.GET("/api/v1/services")),
    refetchInterval: 30_000,
  });
  const silent = hosts
    .filter((one) => one.state === "silent")
    .sort((a, b) => unix(b.state_since) - unix(a.state_since));
  const quiet = new Set(silent.map((one) => one.name));
  const unread = (services.data?.items ?? []).filter((one) => one.state === "silent" && !quiet.has(one.host));
  const stopped = sources.flatMap((one) => one.data?.items ?? []).filter((one) => !quiet.has(one.host));
  const rows = [
    ...silent.map((one) => ({
      key: `host ${one.name}`,
      to: withSpan(`/fleet/${encodeURIComponent(one.name)}`, parameters),
      name: one.name,
      what: `silent for ${duration(now - unix(one.state_since))}`,
    })),
    ...unread.map((one) => ({
      key: `service ${one.id}`,
      to: withSpan(`/services/${one.id}`, parameters),
      name: `${one.host} ${one.name}`,
      what: "not read",
    })),
    ...stopped.map((one) => ({
      key: `source ${one.host} ${one.name} ${one.kind}`,
      to: `/events/sources?host=${encodeURIComponent(one.host)}`,
      name: `${one.host} ${one.name}`,
      what: one.message || one.state.replace("-", " "),
    })),
  ];
  return (
    <Part title="Where data stopped">
      {!rows.length && (
        <Nothing>{sources.some((one) => one.isPending) || services.isPending ? "…" : "Everything is heard."}</Nothing>
      )}
      <ul className="hairline text-sm">
        {rows.slice(0, MOST).map((one) => (
          <li key={one.key} className="flex items-baseline gap-1.5 py-1">
            <span className="self-center">
              <Signal state="silent" size={15} label={false} />
            </span>
            <Link className="touch grow-cell min-w-0 font-semibold hover:underline" to={one.to}>
              {one.name}
            </Link>
            <span className="min-w-0 grow truncate text-ink-2" title={one.what}>
              {one.what}
            </span>
          </li>
        ))}
      </ul>
      {rows.length > MOST && <Nothing>and {plural(rows.length - MOST, "more", "more")}</Nothing>}
    </Part>
  );
}
