import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { lanesPanel } from "../dashboards/pinned";
import { boundsOf } from "../host/lanes";
import { quoted } from "../lib/filterText";
import { duration, moment, unix, withUnit } from "../lib/format";
import { useEvents, useHistogram, useHost, useMetric, useRules, useUsual } from "../lib/queries";
import { instant, type Span } from "../lib/span";
import { useDrawn } from "../lib/useDrawn";
import { useSpan, withSpan } from "../lib/useSpan";
import type { Bound } from "../ui/LaneLines";
import { Lanes } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { ChangeLane, EventLane, StateLane } from "../ui/StateLane";
import { SessionTree } from "./SessionTree";

type Service = Schemas["Service"];
type Chart = Schemas["KitChart"];

export function Component() {
  const { id = "" } = useParams();
  const number = Number(id);
  const service = useQuery({
    queryKey: ["services", "one", number],
    queryFn: () => got(api.GET("/api/v1/services/{number}", { params: { path: { number } } })),
    refetchInterval: 10_000,
    retry: false,
  });
  if (service.isError) return <Failure error={service.error} again={() => void service.refetch()} />;
  if (!service.data) return <Waiting what="the service" lines={9} />;
  return <ServicePage service={service.data} />;
}

function ServicePage({ service }: { service: Service }) {
  const { span, now, brush } = useSpan();
  const { drawn, draw, clear } = useDrawn();
  const rules = useRules();
  const host = useHost(service.host);
  const kit = useQuery({
    queryKey: ["kit", service.kit, service.kit_version],
    queryFn: () => got(api.GET("/api/v1/kits/{name}", { params: { path: { name: service.kit } } })),
    staleTime: 300_000,
    retry: false,
  });
  const metrics = useQuery({
    queryKey: ["metrics", service.host],
    queryFn: () => got(api.GET("/api/v1/metrics", { params: { query: { host: service.host } } })),
    staleTime: 60_000,
  });
  const [parameters] = useSearchParams();
  const steps = useQuery({
    queryKey: ["steps", service.id],
    queryFn: () => got(api.GET("/api/v1/services/{number}/steps", { params: { path: { number: service.id } } })),
    refetchInterval: 30_000,
  });
  const mine = `host eq ${quoted(service.host)} and service.name eq ${quoted(service.name)}`;
  const histogram = useHistogram("", mine, span);
  const changes = useEvents("", `${mine} and source eq "change"`, span, 100);
  const there = new Set(metrics.data?.items.map((m) => m.name));
  const charts = (kit.data?.document.charts ?? []).filter((c) => there.has(c.metric));
  const states = (steps.data?.items ?? [])
    .filter((s) => s.what === "state")
    .map((s) => ({ at: unix(s.at), state: s.after as Service["state"] }))
    .reverse();
  const at = drawn?.end ?? span.end;
  const live = !drawn && span.end >= now - 60;
  return (
    <>
      <Heading service={service} now={now} />
      <SessionTree number={service.id} at={live ? undefined : at} chains />
      <Lanes
        start={span.start}
        end={span.end}
        drawn={drawn}
        onDraw={draw}
        onClear={clear}
        label={`${service.name} over time`}
      >
        <StateLane changes={states.map((s) => ({ ...s, at: s.at }))} since={`${service.state} now`} />
        {charts.map((chart, i) => (
          <Charted
            key={chart.title}
            chart={chart}
            where={mine}
            colour={i}
            span={span}
            bounds={host.data ? boundsOf(rules.data?.items ?? [], chart.metric, host.data) : []}
          />
        ))}
        <EventLane answer={histogram.data} />
        <ChangeLane events={changes.data?.items ?? []} />
      </Lanes>
      <p className="mt-1 flex flex-wrap gap-x-4 font-dense text-sm">
        <Link
          className="link"
          to={withSpan(`/fleet/${encodeURIComponent(service.host)}/processes`, parameters, { of: "session" })}
        >
          Sessions over the span
        </Link>
        <Link
          className="link"
          to={`/availability?${new URLSearchParams({ of: "service", name: `${service.host}/${service.name}`, from: "-30d" })}`}
        >
          Availability
        </Link>
        {charts.length > 0 && (
          <Pin
            panel={() =>
              lanesPanel(
                `${service.name} on ${service.host}`,
                charts.map((chart) => askOf(chart, mine)),
              )
            }
          />
        )}
      </p>
      {drawn && (
        <p className="mt-1 flex gap-3 text-sm">
          <button type="button" className="btn btn-xs" onClick={() => brush(drawn.start, drawn.end)}>
            Zoom to it
          </button>
          <button type="button" className="btn btn-ghost btn-xs" onClick={clear}>
            Clear
          </button>
        </p>
      )}
      <SessionTree number={service.id} at={live ? undefined : at} chains={false} />
      <Dependents host={service.host} service={service.name} />
      <Tables number={service.id} at={live ? undefined : at} />
      <History service={service} steps={steps.data?.items ?? []} now={now} />
    </>
  );
}

function Heading({ service, now }: { service: Service; now: number }) {
  const [parameters] = useSearchParams();
  const { collection } = service;
  const where = Object.entries(service.target)
    .filter(([key]) => ["address", "port", "database", "url", "socket"].includes(key))
    .map(([key, value]) => (key === "port" ? `port ${value}` : String(value)))
    .join(" ");
  return (
    <header className="mb-1.5">
      <div className="flex items-baseline gap-3">
        <h1 className="flex items-center gap-1.5 font-semibold text-xl">
          <Signal state={service.state} size={22} />
          {service.name}
        </h1>
        <p className="grow-cell font-dense text-ink-2">
          on{" "}
          <Link
            className="text-base-content underline"
            to={withSpan(`/fleet/${encodeURIComponent(service.host)}`, parameters)}
          >
            {service.host}
          </Link>
          {service.version && ` · version ${service.version}`}
          {service.facts.role && ` · ${service.facts.role}`}
          {where && ` · ${where}`}
        </p>
      </div>
      <p className="font-dense text-ink-2 text-sm">
        read with the kit {service.kit} {service.kit_version} by {collection.by}, every {service.every}
        {collection.at && `, last ${duration(Math.max(0, now + 15 - unix(collection.at)))} ago`}
        {collection.seconds !== null && collection.seconds !== undefined && ` in ${withUnit(collection.seconds, "s")}`}
      </p>
      {service.alerts.map((a) => (
        <p key={a.id} className="font-dense">
          <Link className="inline-flex items-center gap-1 hover:underline" to={withSpan(`/alerts/${a.id}`, parameters)}>
            <Signal state={a.severity} size={16} /> {a.rule.replaceAll("-", " ")}
          </Link>
        </p>
      ))}
      {collection.problem && (
        <p role="alert" className="mt-1 border-state-critical border-l-4 py-0.5 pl-2">
          {collection.problem}
        </p>
      )}
    </header>
  );
}

function askOf(chart: Chart, where: string) {
  return {
    metric: chart.metric,
    where: chart.where ? `${where} and (${chart.where})` : where,
    take: chart.take,
    by: chart.by,
    top: 4,
  };
}

function Charted({
  chart,
  where,
  colour,
  span,
  bounds,
}: {
  chart: Chart;
  where: string;
  colour: number;
  span: Span;
  bounds: Bound[];
}) {
  const ask = askOf(chart, where);
  const answer = useMetric(ask, span);
  const usual = useUsual(ask, span, answer.data);
  if (answer.isError) return null;
  const names = answer.data?.series.map((s) => Object.values(s.attributes).join(" ")).filter(Boolean) ?? [];
  return (
    <MetricLane
      name={chart.title}
      shows={names.length ? names.join(" · ") : chart.metric}
      answer={answer.data}
      colour={colour}
      bounds={bounds}
      height={36}
      waiting={answer.isPending}
      usual={usual}
    />
  );
}

/** Whom trouble of this service hurts, in every application that has it. */
function Dependents({ host, service }: { host: string; service: string }) {
  const answer = useQuery({
    queryKey: ["dependents", host, service],
    queryFn: () => got(api.GET("/api/v1/applications/dependents", { params: { query: { host, service } } })),
    staleTime: 30_000,
  });
  return (
    <>
      {(answer.data?.items ?? []).map((d) => (
        <p key={d.application + d.part} className="mt-3 font-dense">
          <Link className="font-semibold underline" to={`/applications/${encodeURIComponent(d.application)}`}>
            {d.application}
          </Link>{" "}
          {d.needed_by.length ? `depends on it: ${d.needed_by.join(", ")}` : "has it where the users are"}
        </p>
      ))}
    </>
  );
}

const NUMBER = /^-?\d+(\.\d+)?$/;

function Tables({ number, at }: { number: number; at: number | undefined }) {
  const tables = useQuery({
    queryKey: ["tables", number, at ? Math.floor(at) : 0],
    queryFn: () =>
      got(
        api.GET("/api/v1/services/{number}/tables", {
          params: { path: { number }, query: at ? { at: instant(at) } : {} },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: at ? false : 30_000,
  });
  const some = (tables.data?.items ?? []).filter((t) => t.rows.length);
  return (
    <>
      {some.map((table) => (
        <section key={table.name} aria-label={table.about} className="mt-4">
          <h2 className="font-dense font-semibold">
            {table.about}
            {table.at && (
              <span className="font-normal text-ink-2 text-sm">, as of {moment(unix(table.at), unix(table.at))}</span>
            )}
          </h2>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region has to be reached by keyboard */}
          <div className="max-h-80 overflow-auto" role="region" aria-label={`${table.about}: rows`} tabIndex={0}>
            <table className="w-full border-collapse font-dense text-sm">
              <thead>
                <tr className="border-base-300 border-b text-ink-2">
                  {Object.entries(table.columns).map(([column, heading]) => (
                    <th
                      key={column}
                      scope="col"
                      className={`sticky top-0 bg-base-100 py-1 pr-4 font-normal ${numeric(table.rows, column) ? "text-right" : "text-left"}`}
                    >
                      {heading}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {table.rows.map((row, i) => (
                  <tr key={i} className="border-base-300 border-b align-top">
                    {Object.keys(table.columns).map((column) => (
                      <td
                        key={column}
                        className={`py-1 pr-4 ${numeric(table.rows, column) ? "whitespace-nowrap text-right" : "max-w-lg break-words"}`}
                      >
                        {cell(row[column])}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      ))}
    </>
  );
}

type Row = Schemas["ServiceTable"]["rows"][number];

function numeric(rows: Row[], column: string): boolean {
  return rows.every((row) => row[column] === null || NUMBER.test(String(row[column])));
}

function cell(value: Row[string] | undefined): string {
  if (value === null || value === undefined) return "";
  if (typeof value === "number" && !Number.isInteger(value)) return value.toPrecision(4);
  return String(value);
}

function History({ service, steps, now }: { service: Service; steps: Schemas["ServiceStep"][]; now: number }) {
  return (
    <section aria-label="History and cost" className="mt-4 grid grid-cols-2 gap-8 font-dense text-sm">
      <div>
        <h2 className="font-semibold">What happened to it</h2>
        {!steps.length && <p className="text-ink-2">Nothing yet.</p>}
        <ul className="hairline">
          {steps.slice(0, 12).map((s, i) => (
            <li key={i} className="flex gap-3 border-base-300 border-t py-0.5">
              <span className="w-32 whitespace-nowrap text-ink-2">{moment(unix(s.at), now)}</span>
              <span>
                {s.what} {s.before && `${s.before} → `}
                {s.after}
              </span>
            </li>
          ))}
        </ul>
      </div>
      <div>
        <h2 className="font-semibold">How it is read</h2>
        <ul className="hairline">
          {service.parts.map((p) => (
            <li key={p.part} className="flex gap-3 border-base-300 border-t py-0.5">
              <span className="w-36">{p.part}</span>
              <span className="w-20 text-right">{withUnit(p.seconds, "s")}</span>
              <span className={p.problem ? "text-state-warning" : "text-ink-2"}>
                {p.problem ?? (p.note ? `left out: ${p.note}` : "")}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </section>
  );
}
