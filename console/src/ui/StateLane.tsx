import type { Schemas, Stretch } from "../api/client";
import { moment } from "../lib/format";
import { weight } from "../lib/states";
import { LaneRow, useAxis } from "./Lanes";
import { pieces, Ribbon } from "./Ribbon";

/** The state of a host over the span. */
export function StateLane({ changes, since }: { changes: Stretch[]; since: string }) {
  const axis = useAxis();
  const found = pieces(changes, axis.start, axis.end);
  const at = axis.cursor;
  const here = at === undefined ? found[found.length - 1] : found.find((p) => p.start <= at && at < p.end);
  return (
    <LaneRow name="State" shows={since} value={here?.state ?? ""} unit="" height={34}>
      <div className="pt-1">
        <Ribbon changes={changes} start={axis.start} end={axis.end} height={24} />
      </div>
    </LaneRow>
  );
}

const FILL = { grave: "var(--state-critical)", warning: "var(--state-warning)", rest: "var(--color-base-300)" };

/** Events by severity: the severe ones at the bottom of each bar in full colour. */
export function EventLane({
  answer,
  name = "Events",
}: {
  answer: Schemas["HistogramAnswer"] | undefined;
  name?: string;
}) {
  const axis = useAxis();
  const height = 40;
  const count = answer?.times.length ?? 0;
  const sums = Array.from({ length: count }, () => ({ grave: 0, warning: 0, rest: 0 }));
  for (const [severity, counts] of Object.entries(answer?.counts ?? {})) {
    counts.forEach((n, i) => {
      const sum = sums[i];
      if (sum) sum[weight(severity as Schemas["Event"]["severity"])] += n;
    });
  }
  const most = Math.max(1, ...sums.map((s) => s.grave + s.warning + s.rest));
  const step = answer?.step_seconds ?? 1;
  const at = axis.cursor;
  const index = at === undefined || !answer ? -1 : Math.floor((at - (answer.times[0] ?? 0)) / step);
  const here = sums[index];
  const shown = here ? here.grave + here.warning + here.rest : (answer?.total ?? 0);
  return (
    <LaneRow
      name={name}
      shows="by severity"
      value={String(shown)}
      unit={here ? `${here.grave} error, ${here.warning} warning` : "in the span"}
      height={height}
    >
      <svg
        width={axis.width}
        height={height}
        className="block"
        role="img"
        aria-label={`${answer?.total ?? 0} events in the span`}
      >
        <title>Events by severity</title>
        {sums.map((sum, i) => {
          const x = axis.x(answer?.times[i] ?? 0);
          const wide = Math.max(1, axis.x((answer?.times[i] ?? 0) + step) - x - 1);
          let y = height;
          return (["grave", "warning", "rest"] as const).map((kind) => {
            if (!sum[kind]) return null;
            const tall = Math.max(1.5, (sum[kind] / most) * (height - 4));
            y -= tall;
            return <rect key={`${answer?.times[i]}${kind}`} x={x} y={y} width={wide} height={tall} fill={FILL[kind]} />;
          });
        })}
      </svg>
    </LaneRow>
  );
}

/** What was changed, as pins on the axis. */
export function ChangeLane({ events }: { events: Schemas["Event"][] }) {
  const axis = useAxis();
  const at = axis.cursor;
  const reach = ((axis.end - axis.start) / Math.max(axis.width, 1)) * 6;
  const near = at === undefined ? undefined : events.find((e) => Math.abs(Date.parse(e.time) / 1000 - at) < reach);
  return (
    <LaneRow
      name="Changes"
      shows={near ? near.body : events.length ? "configuration, jobs" : "none in the span"}
      value={String(events.length)}
      unit="in the span"
      height={30}
    >
      <svg width={axis.width} height={30} className="block" role="img" aria-label={`${events.length} changes`}>
        <title>Changes</title>
        {events.map((event) => {
          const x = axis.x(Date.parse(event.time) / 1000);
          return (
            <g key={event.id}>
              <title>{`${moment(Date.parse(event.time) / 1000, axis.end)} ${event.body}`}</title>
              <line x1={x} x2={x} y1={6} y2={24} stroke="var(--color-primary)" strokeWidth="1.6" />
              <circle cx={x} cy={24} r={3} fill="var(--color-primary)" />
            </g>
          );
        })}
      </svg>
    </LaneRow>
  );
}
