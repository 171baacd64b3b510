import { usePrefetchQuery, useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useParams } from "react-router";
import { around, paragraphs } from "../alerts/Alert";
import { askOf, boundsOf } from "../alerts/measured";
import { api, got, type IncidentDetail, type Schemas } from "../api/client";
import { clock, day, duration, moment, plural, unix, withUnit } from "../lib/format";
import { useMetric } from "../lib/queries";
import type { Span } from "../lib/span";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { LaneRow, Lanes, useAxis } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { called, standing, stateOf } from "./states";
import { TrailOf } from "./TrailOf";
import { trailQuery } from "./trailQuery";
import { useAct } from "./useAct";
import { useTrail } from "./useTrail";
import { Verbs } from "./Verbs";

const MOST_LANES = 6;
const COLUMNS = "grid-cols-[22px_minmax(0,1fr)_auto]";
const COLUMNS_TO_PART = "grid-cols-[22px_22px_minmax(0,1fr)_auto]";

export function Component() {
  const { id = "" } = useParams();
  const number = Number(id);
  usePrefetchQuery(trailQuery(number));
  const incident = useQuery({
    queryKey: ["incident", number],
    queryFn: () => got(api.GET("/api/v1/incidents/{number}", { params: { path: { number } } })),
    refetchInterval: 15_000,
    retry: false,
  });
  if (incident.isError) return <Failure error={incident.error} />;
  if (!incident.data) return <Waiting what="the incident" lines={8} />;
  return <IncidentPage key={number} incident={incident.data} />;
}

function IncidentPage({ incident }: { incident: IncidentDetail }) {
  const { now } = useSpan();
  const { trail, settled } = useTrail(incident);
  const opened = unix(incident.opened_at);
  const ended = incident.recovered_at ?? incident.closed_at;
  const span = around(opened, ended ? unix(ended) : undefined, now);
  const said = standing(incident, now);
  return (
    <>
      <header className="mb-4">
        <h1 className="flex items-start gap-2 font-semibold text-xl">
          <Signal state={stateOf(incident)} size={24} />
          <span>
            {called(incident)} <span className="font-dense font-normal text-ink-2">{incident.id}</span>
          </span>
        </h1>
        <p className="font-dense text-lg">
          <span className="text-ink-2">
            {said && `${said} · `}
            since {moment(opened, now)}, {duration((ended ? unix(ended) : now) - opened)}
            {" · "}
          </span>
          <Whom incident={incident} />
          <span className="text-ink-2">
            {" · "}
            {incident.alert_count === 1
              ? "one alert"
              : `${plural(incident.alert_count, "alert")} are this one incident`}
            {incident.reopened > 0 && ` · it came again${incident.reopened > 1 ? ` ${incident.reopened} times` : ""}`}
          </span>
        </p>
        {incident.told_nobody && (
          <p role="alert" className="mt-1 border-error border-l-4 pl-3 font-semibold text-error">
            Nobody is told of it: no callout is for it.{" "}
            <Link className="link" to="/settings/callouts">
              See the callouts
            </Link>
          </p>
        )}
        {incident.joined_into && (
          <p className="mt-1">
            It is a part of{" "}
            <Link className="link" to={`/incidents/${incident.joined_into}`}>
              incident {incident.joined_into}
            </Link>{" "}
            now.
          </p>
        )}
        <Verbs incident={incident} />
      </header>
      <TrailOf trail={trail} incident={incident.id} now={now} />
      {settled && <Below incident={incident} span={span} now={now} />}
    </>
  );
}

/** What stands under the trail. */
function Below({ incident, span, now }: { incident: IncidentDetail; span: Span; now: number }) {
  return (
    <div className="grid gap-x-8 gap-y-6 md:grid-cols-[minmax(0,4fr)_minmax(0,7fr)]">
      <Log lines={incident.timeline} now={now} />
      <div className="min-w-0">
        <Departed incident={incident} span={span} />
        <div className="mt-4 grid gap-6 md:grid-cols-2">
          {incident.advice.length > 0 && (
            <section aria-label="What to do">
              <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">What to do</h2>
              {incident.advice.map((text) => (
                <p key={text} className="mb-2 max-w-prose whitespace-pre-line">
                  {paragraphs(text)}
                </p>
              ))}
            </section>
          )}
          <section aria-label="What helped last time">
            <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">What helped last time</h2>
            {incident.before.length === 0 && <p className="text-ink-2">The same has not been dealt with before.</p>}
            {incident.before.map((one) => (
              <p key={one.id} className="mb-2">
                <Link className="link" to={`/incidents/${one.id}`}>
                  Incident {one.id}
                </Link>
                , {moment(unix(one.closed_at), now)}:{" "}
                {one.note || <span className="text-ink-2">nothing was written down</span>}
              </p>
            ))}
          </section>
        </div>
        <Alerts incident={incident} now={now} />
      </div>
    </div>
  );
}

function Whom({ incident }: { incident: IncidentDetail }) {
  if (!incident.hurts.length) return <>no application has a part in it</>;
  return (
    <>
      touches{" "}
      {incident.hurts.map((hurt, i) => (
        <Fragment key={hurt.application}>
          {i > 0 && (i === incident.hurts.length - 1 ? " and " : ", ")}
          <Link className="font-semibold hover:underline" to={`/applications/${encodeURIComponent(hurt.application)}`}>
            {hurt.application}
          </Link>{" "}
          <span className="text-ink-2">({hurt.how})</span>
        </Fragment>
      ))}
    </>
  );
}

/** What happened, the newest first, kinds told apart by their first word. */
function Log({ lines, now }: { lines: Schemas["StoryLine"][]; now: number }) {
  return (
    <section className="min-w-0 font-dense" aria-label="Log">
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">Log, newest first</h2>
      <ol className="hairline border-base-300 border-y">
        {[...lines].reverse().map((line, i) => (
          <li key={`${line.at}-${i}`} className="grid grid-cols-[66px_70px_minmax(0,1fr)] gap-x-2 py-1">
            <span className="text-ink-2" title={moment(unix(line.at), now, true)}>
              {now - unix(line.at) > 86_400 ? `${day(unix(line.at))} ` : ""}
              {clock(unix(line.at), true)}
            </span>
            <span className="font-semibold">{line.kind}</span>
            <span className="min-w-0 break-words">
              {line.link ? (
                <Link className="hover:underline" to={line.link}>
                  {line.text}
                </Link>
              ) : (
                line.text
              )}
              {line.who && <span className="text-ink-2">, {line.who}</span>}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What is affected, in the order in which it left its limits. */
function Departed({ incident, span }: { incident: IncidentDetail; span: Span }) {
  const first = new Map<string, Schemas["IncidentAlert"]>();
  for (const alert of [...incident.alerts].sort((a, b) => unix(a.opened_at) - unix(b.opened_at))) {
    const key = `${alert.host} ${alert.rule}`;
    if (!first.has(key)) first.set(key, alert);
  }
  const shown = [...first.values()].slice(0, MOST_LANES);
  if (!shown.length) return null;
  return (
    <section aria-label="In the order in which they left their limits">
      <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">
        In the order in which they left their limits
        {first.size > shown.length && `, the first ${shown.length} of ${first.size}`}
      </h2>
      <Lanes
        start={span.start}
        end={span.end}
        onDraw={() => undefined}
        onClear={() => undefined}
        label="What is affected, over time"
      >
        {shown.map((alert, i) => (
          <AlertLane key={alert.id} alert={alert} span={span} colour={i} />
        ))}
      </Lanes>
    </section>
  );
}

function AlertLane({ alert, span, colour }: { alert: Schemas["IncidentAlert"]; span: Span; colour: number }) {
  const detail = useQuery({
    queryKey: ["alert", alert.id],
    queryFn: () => got(api.GET("/api/v1/alerts/{number}", { params: { path: { number: alert.id } } })),
    retry: false,
  });
  const answer = useMetric(detail.data && askOf(detail.data), span);
  const which = Object.values(alert.attributes).filter(Boolean).join(" ");
  const shows = (
    <Link className="hover:underline" to={`/alerts/${alert.id}`}>
      {which || alert.rule}
    </Link>
  );
  if (detail.data && !askOf(detail.data)) return <NoPoints alert={alert} shows={which || alert.rule} />;
  return (
    <div className="relative">
      <MetricLane
        name={alert.host || "the fleet"}
        label={`${alert.host || "the fleet"}, ${alert.about}`}
        shows={shows}
        answer={answer.data}
        colour={colour}
        bounds={detail.data ? boundsOf(detail.data) : []}
        height={48}
        of={`limit ${withUnit(alert.limit, alert.unit)}`}
      />
      <Left at={unix(alert.opened_at)} height={48} />
    </div>
  );
}

/** Where a lane left its limits. */
function Left({ at, height }: { at: number; height: number }) {
  const axis = useAxis();
  if (at < axis.start || at > axis.end) return null;
  return (
    <div className="pointer-events-none absolute inset-0 hidden md:grid md:grid-cols-[132px_minmax(0,1fr)_96px]">
      <span />
      <span className="relative">
        <span
          className="absolute w-0.5 bg-base-content"
          style={{ left: axis.x(at), height }}
          title={`alert ${clock(at, true)}`}
        />
      </span>
    </div>
  );
}

/** An alert whose rule counts something that has no points of its own: when it was open. */
function NoPoints({ alert, shows }: { alert: Schemas["IncidentAlert"]; shows: string }) {
  const axis = useAxis();
  const start = Math.max(axis.start, unix(alert.opened_at));
  const end = Math.min(axis.end, alert.recovered_at ? unix(alert.recovered_at) : axis.end);
  return (
    <LaneRow
      name={alert.host || "the fleet"}
      label={`${alert.host || "the fleet"}, ${alert.about}`}
      shows={shows}
      value={alert.state}
      unit=""
      height={48}
    >
      <svg width={axis.width} height={48} className="block" role="img" aria-label={`${alert.about}, ${alert.state}`}>
        <title>{`${alert.about}, ${alert.state}`}</title>
        <rect
          x={axis.x(start)}
          y={16}
          width={Math.max(2, axis.x(end) - axis.x(start))}
          height={16}
          fill={`var(--state-${alert.severity})`}
        />
      </svg>
    </LaneRow>
  );
}

/** Its alerts; those that are chosen can be parted from it. */
function Alerts({ incident, now }: { incident: IncidentDetail; now: number }) {
  const may = useMay("operator");
  const [chosen, setChosen] = useState<number[]>([]);
  const { act, problem } = useAct(() => setChosen([]));
  if (!incident.alerts.length) return null;
  const left = incident.alert_count - incident.alerts.length;
  const canPart = may && incident.state === "open" && incident.alert_count > 1;
  const toggle = (id: number) => setChosen(chosen.includes(id) ? chosen.filter((one) => one !== id) : [...chosen, id]);
  const part = () => {
    const path = { number: incident.id };
    void act(got(api.POST("/api/v1/incidents/{number}/part", { params: { path }, body: { alerts: chosen } })));
  };
  return (
    <section className="mt-4 font-dense" aria-label="Its alerts">
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">Its alerts, the causes and the worst first</h2>
      <ul className="hairline border-base-300 border-y">
        {incident.alerts.map((alert) => (
          <li key={alert.id} className={`grid gap-x-2 py-1 ${canPart ? COLUMNS_TO_PART : COLUMNS}`}>
            {canPart && (
              <input
                type="checkbox"
                className="checkbox checkbox-xs mt-1"
                aria-label={`Alert ${alert.id}: ${alert.host || "the fleet"}, ${alert.about}`}
                checked={chosen.includes(alert.id)}
                onChange={() => toggle(alert.id)}
              />
            )}
            <Signal
              state={alert.paused ? "paused" : alert.state === "open" ? alert.severity : "ok"}
              size={16}
              label={alert.paused ? "in maintenance" : alert.state === "open" ? alert.severity : "recovered"}
            />
            <span className="min-w-0">
              <Link className="hover:underline" to={`/alerts/${alert.id}`}>
                <span className="font-semibold">{alert.host || "the fleet"}</span> {alert.about}
              </Link>
              <span className="block text-ink-2 text-sm">
                {alert.held_under ? `held under alert ${alert.held_under}: ${alert.why}` : alert.why}
                {alert.paused && " · in maintenance: kept, not told"}
              </span>
            </span>
            <span className="text-right text-ink-2">{moment(unix(alert.opened_at), now)}</span>
          </li>
        ))}
      </ul>
      {left > 0 && <p className="mt-1 text-ink-2">and {left.toLocaleString("en")} more</p>}
      {chosen.length > 0 && (
        <p className="mt-1 flex items-center gap-3">
          <button type="button" className="btn btn-sm" disabled={chosen.length === incident.alert_count} onClick={part}>
            Part {plural(chosen.length, "alert")} from it
          </button>
          <span className="text-ink-2">
            {chosen.length === incident.alert_count
              ? "one has to stay"
              : chosen.length === 1
                ? "it is an incident of its own then, and stays so"
                : "they are an incident of their own then, and stay so"}
          </span>
        </p>
      )}
      {problem && (
        <p role="alert" className="mt-1 text-error">
          {problem}
        </p>
      )}
    </section>
  );
}
