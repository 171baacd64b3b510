import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import { duration, moment, unix, withUnit } from "../lib/format";
import { type Ask, useMetric, useUsual } from "../lib/queries";
import { useDrawn } from "../lib/useDrawn";
import { useSpan, withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Lanes } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";
import { Failure, Waiting } from "../ui/Note";
import { Signal, StateWord } from "../ui/Signal";
import { place } from "./Probes";

/** One probe: how long its answers took and in which phase, and what it says from every place. */
export function Component() {
  const { name = "" } = useParams();
  const [parameters] = useSearchParams();
  const { span, now, brush } = useSpan();
  const { drawn, draw, clear } = useDrawn();
  const may = useMay("operator");
  const go = useNavigate();
  const probe = useQuery({
    queryKey: ["probes", name],
    queryFn: () => got(api.GET("/api/v1/probes/{name}", { params: { path: { name } } })),
    refetchInterval: 10_000,
    retry: false,
  });
  const mine = `probe eq ${quoted(name)}`;
  const asked: Ask = { metric: "probe.duration", where: mine, take: "max", by: ["probe.from"], top: 4 };
  const took = useMetric(asked, span);
  const usual = useUsual(asked, span, took.data);
  const phases = useMetric(
    { metric: "probe.phase.duration", where: mine, take: "avg", by: ["probe.phase"], top: 4 },
    span,
  );
  const up = useMetric({ metric: "probe.up", where: mine, take: "avg", by: ["probe.from"], top: 4 }, span);
  if (probe.isError) return <Failure error={probe.error} again={() => void probe.refetch()} />;
  const p = probe.data;
  if (!p) return <Waiting what={name} lines={7} />;
  const named = (answer: typeof took.data) =>
    answer?.series.map((s) => Object.values(s.attributes)[0]).join(" · ") ?? "";
  return (
    <>
      <header className="mb-2">
        <h1 className="flex items-center gap-1.5 font-semibold text-xl">
          <Signal state={p.state} size={22} />
          {p.name}
        </h1>
        <p className="font-dense text-ink-2">
          {p.kind} {place(p)}, every {p.every}, at most {p.time_limit}
          {p.attempts > 1 && `, ${p.attempts} attempts`} · shown on{" "}
          <Link
            className="text-base-content underline"
            to={withSpan(`/fleet/${encodeURIComponent(p.on_host)}`, parameters)}
          >
            {p.on_host}
          </Link>{" "}
          · {p.state} for {duration(Math.max(0, now + 15 - unix(p.state_since)))}
        </p>
        {p.last && p.state !== "ok" && (
          <p role="alert" className="mt-1 border-state-critical border-l-4 py-0.5 pl-2">
            {p.last.message}
          </p>
        )}
      </header>
      <Lanes
        start={span.start}
        end={span.end}
        drawn={drawn}
        onDraw={draw}
        onClear={clear}
        label={`${p.name} over time`}
      >
        <MetricLane
          name="Good answers"
          shows={named(up.data)}
          answer={up.data}
          colour={2}
          top={1}
          waiting={up.isPending}
        />
        <MetricLane
          name="Took"
          shows={named(took.data)}
          answer={took.data}
          height={60}
          waiting={took.isPending}
          usual={usual}
        />
        <MetricLane
          name="Phases"
          shows={named(phases.data)}
          answer={phases.data}
          colour={1}
          height={60}
          waiting={phases.isPending}
        />
      </Lanes>
      {drawn && (
        <button type="button" className="btn btn-xs mt-1" onClick={() => brush(drawn.start, drawn.end)}>
          Zoom to it
        </button>
      )}
      <section aria-label="From every place" className="mt-4 font-dense">
        {p.places.map((at) => (
          <At key={at.place} at={at} now={now} />
        ))}
      </section>
      {may && (
        <p className="mt-4">
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => {
              if (!window.confirm(`Make the probe ${p.name} no more? Its series stay.`)) return;
              void got(api.DELETE("/api/v1/probes/{name}", { params: { path: { name } } })).then(() => go("/probes"));
            }}
          >
            Delete
          </button>
        </p>
      )}
    </>
  );
}

function At({ at, now }: { at: Schemas["ProbeAt"]; now: number }) {
  const { last } = at;
  const whole = last ? Math.max(last.seconds, ...Object.values(last.phases), 1e-9) : 1;
  return (
    <div className="border-base-300 border-t py-2">
      <h2 className="flex items-baseline gap-3">
        <StateWord state={at.state} />
        <span className="font-semibold">from {at.place}</span>
        {last && (
          <span className="text-ink-2 text-sm">
            {moment(unix(last.at), now, true)}, {withUnit(last.seconds, "s")}
            {last.attempts > 1 && `, attempt ${last.attempts}`}
          </span>
        )}
      </h2>
      {last && <p className="my-0.5">{last.message}</p>}
      {last && (
        <ul className="max-w-2xl text-sm">
          {Object.entries(last.phases).map(([phase, seconds]) => (
            <li key={phase} className="grid grid-cols-[150px_1fr_80px] items-center gap-2">
              <span className="text-ink-2">{phase}</span>
              <span className="h-2 bg-base-200">
                <span
                  className="block h-2"
                  style={{ width: `${Math.max(0.5, (seconds / whole) * 100)}%`, background: "var(--series-2)" }}
                />
              </span>
              <span className="text-right">{withUnit(seconds, "s")}</span>
            </li>
          ))}
        </ul>
      )}
      {last?.certificates.map((c) => (
        <p key={c.subject + c.not_after} className="text-sm">
          certificate {c.subject}, from {c.issuer}: <strong>{c.days_left.toFixed(1)} days left</strong>
        </p>
      ))}
    </div>
  );
}
