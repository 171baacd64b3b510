import { Link } from "react-router";
import { clock, unix } from "../lib/format";
import { type Usual, useMetric } from "../lib/queries";
import type { Span } from "../lib/span";
import { askOf, type Departure, shownBy, stairs, type Trail } from "../lib/trail";
import { LaneRow, Lanes, useAxis } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";

const HEIGHT = 52;

/** The lanes in the order in which they departed, each with its moment, joined as a staircase. */
export function Stairs({ trail, span }: { trail: Trail; span: Span }) {
  const shown = stairs(trail);
  if (!shown.length) return null;
  return (
    <Lanes
      start={span.start}
      end={span.end}
      onDraw={() => undefined}
      onClear={() => undefined}
      label="What departed, in its order, over time"
    >
      {shown.map((one, i) => (
        <Step key={`${one.at} ${one.host} ${one.text}`} one={one} next={shown[i + 1]} span={span} colour={i} />
      ))}
    </Lanes>
  );
}

interface StepProps {
  one: Departure;
  next: Departure | undefined;
  span: Span;
  colour: number;
}

function Step({ one, next, span, colour }: StepProps) {
  const ask = askOf(one);
  const answer = useMetric(ask, span);
  const at = unix(one.at);
  const name = one.host ?? "outside";
  const shows = (
    <Link
      className="touch inline-flex min-h-6 max-w-full items-center gap-1 hover:underline"
      to={one.link ?? ""}
      title={`${one.text}, ${clock(at, true)}`}
    >
      <span className="tabular-nums">{clock(at, true)}</span>
      <span className="truncate">{shownBy(one)}</span>
    </Link>
  );
  const label = `${name}, ${one.text}, ${clock(at, true)}`;
  return (
    <div className="relative" data-step={one.at}>
      {ask ? (
        <MetricLane
          name={name}
          label={label}
          shows={shows}
          answer={answer.data}
          colour={colour}
          height={HEIGHT}
          usual={answer.data && usualOf(one, span)}
        />
      ) : (
        <LaneRow name={name} label={label} shows={shows} height={HEIGHT}>
          <Said one={one} label={label} />
        </LaneRow>
      )}
      <Mark at={at} off={one.uncertainty_seconds} next={next && unix(next.at)} />
    </div>
  );
}

/** Between what it mostly was before, over the whole span. */
function usualOf(one: Departure, span: Span): Usual | undefined {
  const { usual_low: low, usual_high: high } = one;
  if (low === null || low === undefined || high === null || high === undefined) return undefined;
  return { times: [span.start, span.end], low: [low, low], high: [high, high] };
}

/** What began and has no line of its own. */
function Said({ one, label }: { one: Departure; label: string }) {
  const axis = useAxis();
  const x = Math.min(axis.width, Math.max(0, axis.x(unix(one.at))));
  const right = x > axis.width * 0.6;
  return (
    <svg width={axis.width} height={HEIGHT} className="block" role="img" aria-label={label}>
      <title>{label}</title>
      <text
        x={right ? x - 8 : x + 8}
        y={HEIGHT / 2 + 4}
        textAnchor={right ? "end" : "start"}
        className="fill-base-content font-dense text-sm"
      >
        {shortened(one.text, Math.floor((right ? x : axis.width - x) / 6.4))}
      </text>
    </svg>
  );
}

function shortened(text: string, most: number): string {
  return text.length <= most ? text : `${text.slice(0, Math.max(0, most - 1))}…`;
}

/** The moment of a lane, how sure that is, and the step to the next. */
function Mark({ at, off, next }: { at: number; off: number; next: number | undefined }) {
  const axis = useAxis();
  const clamp = (time: number) => Math.min(axis.width, Math.max(0, axis.x(time)));
  const x = clamp(at);
  const to = next === undefined ? undefined : clamp(next);
  return (
    <div className="pointer-events-none absolute inset-0 hidden md:grid md:grid-cols-[132px_minmax(0,1fr)_96px]">
      <span />
      <span className="relative">
        <span
          className="absolute inset-y-0 bg-base-content/10"
          style={{ left: clamp(at - off), width: clamp(at + off) - clamp(at - off) }}
        />
        <span className="absolute inset-y-0 w-0.5 bg-base-content" style={{ left: x }} />
        {to !== undefined && (
          <span
            className="absolute bottom-0 h-0.5 translate-y-1/2 bg-base-content"
            style={{ left: Math.min(x, to), width: Math.abs(to - x) + 2 }}
          />
        )}
      </span>
    </div>
  );
}
