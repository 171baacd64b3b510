import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got, type Host, type Schemas } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { lanesPanel } from "../dashboards/pinned";
import { quoted } from "../lib/filterText";
import { duration, moment, plural, unix, withUnit } from "../lib/format";
import { useEvents, useHistogram, useHost, useMetric, useRules, useUsual } from "../lib/queries";
import { instant, type Span } from "../lib/span";
import { useAddress } from "../lib/useAddress";
import { useDrawn } from "../lib/useDrawn";
import { useSpan, withSpan } from "../lib/useSpan";
import { Layers } from "../tree/Layers";
import { Lanes } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { ChangeLane, EventLane, StateLane } from "../ui/StateLane";
import { Beneath } from "./Beneath";
import { Collected } from "./Collected";
import { depthLanes, knownSpan, type LaneSpec, serviceLanes, systemLanes } from "./lanes";
import { RunsOn } from "./RunsOn";
import { WatchedBy } from "./WatchedBy";

/** The kit that says what of a system is worth a chart. */
const SYSTEM_KIT = "linux";

export function Component() {
  const { name = "" } = useParams();
  const host = useHost(name);
  if (host.isError) return <Failure error={host.error} again={() => void host.refetch()} />;
  if (!host.data) return <Waiting what={name} lines={9} />;
  return <HostPage host={host.data} />;
}

function HostPage({ host }: { host: Host }) {
  const { span, now, brush } = useSpan();
  const { drawn, draw, clear } = useDrawn();
  const rules = useRules();
  const metrics = useQuery({
    queryKey: ["metrics", host.name],
    queryFn: () => got(api.GET("/api/v1/metrics", { params: { query: { host: host.name } } })),
    staleTime: 60_000,
  });
  const states = useQuery({
    queryKey: ["states", host.name, span.start, span.end],
    queryFn: () =>
      got(
        api.GET("/api/v1/hosts/{name}/states", {
          params: { path: { name: host.name }, query: { from: instant(span.start), to: instant(span.end + 15) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const mine = `host eq ${quoted(host.name)}`;
  const histogram = useHistogram("", `${mine}`, span);
  const changes = useEvents("", `${mine} and source eq "change"`, span, 100);
  const known = rules.data?.items ?? [];
  const lanes = useMemo(
    () => [...systemLanes(host, known), ...serviceLanes(host, metrics.data?.items ?? [], known)],
    [host, known, metrics.data],
  );
  const [parameters, change] = useAddress();
  const kit = useQuery({
    queryKey: ["kits", SYSTEM_KIT],
    queryFn: () => got(api.GET("/api/v1/kits/{name}", { params: { path: { name: SYSTEM_KIT } } })),
    staleTime: 600_000,
  });
  const deeper = useMemo(
    () => depthLanes(host, metrics.data?.items ?? [], kit.data?.document.charts ?? []),
    [host, metrics.data, kit.data],
  );
  const deep = parameters.has("deep");
  const toggle = () => change({ deep: deep ? "" : "1" });
  const chosen = drawn ?? { start: span.start, end: span.end };
  return (
    <>
      <Heading host={host} now={now} />
      <KnownSince host={host} now={now} />
      <Lanes
        start={span.start}
        end={span.end}
        drawn={drawn}
        onDraw={draw}
        onClear={clear}
        label={`${host.name} over time`}
      >
        <StateLane
          changes={states.data?.items ?? []}
          since={`${host.state} since ${moment(unix(host.state_since), now)}`}
        />
        {[...lanes, ...(deep ? deeper : [])].map((lane) => (
          <Measured key={lane.key} lane={lane} span={span} />
        ))}
        <EventLane answer={histogram.data} />
        <ChangeLane events={changes.data?.items ?? []} />
      </Lanes>
      {deeper.length > 0 && (
        <button
          type="button"
          className="touch mt-1 cursor-pointer text-left font-dense text-primary text-sm"
          aria-expanded={deep}
          onClick={toggle}
        >
          {deep ? "Fewer lanes" : `More lanes: ${deeper.map((d) => d.name.toLowerCase()).join(", ")}`}
        </button>
      )}
      <p className="mt-1 font-dense text-sm">
        <Pin
          panel={() =>
            lanesPanel(
              host.name,
              lanes.map((lane) => lane.ask),
            )
          }
        />
      </p>
      <WatchedBy host={host.name} />
      <Beneath
        host={host}
        start={chosen.start}
        end={chosen.end}
        drawn={drawn !== undefined}
        zoom={brush}
        clear={clear}
        changes={changes.data?.items ?? []}
      />
    </>
  );
}

/** Of a host that came during the span: since when there is data, and a span that shows it. */
function KnownSince({ host, now }: { host: Host; now: number }) {
  const { span, setSpan } = useSpan();
  const since = unix(host.known_since);
  const from = knownSpan(span, since, now);
  if (!from) return null;
  return (
    <p role="status" className="mb-1 border-primary border-l-4 pl-3">
      There is data since {moment(since, now, true)}, {duration(now - since)} ago.{" "}
      <button type="button" className="btn btn-sm" onClick={() => setSpan({ from, to: "now" })}>
        Show it alone
      </button>
    </p>
  );
}

function Measured({ lane, span }: { lane: LaneSpec; span: Span }) {
  const answer = useMetric(lane.ask, span);
  const usual = useUsual(lane.ask, span, answer.data);
  const names = answer.data?.series.map((s) => Object.values(s.attributes)[0]).filter(Boolean) ?? [];
  if (answer.isError) return null;
  return (
    <MetricLane
      name={lane.name}
      shows={names.length ? names.join(" · ") : lane.shows}
      answer={answer.data}
      colour={lane.colour}
      top={lane.top}
      of={lane.of}
      bounds={lane.bounds ?? []}
      height={lane.height ?? 36}
      waiting={answer.isPending}
      usual={usual}
    />
  );
}

function Heading({ host, now }: { host: Host; now: number }) {
  const facts = host.facts;
  const agent = host.agent as (Schemas["Host"]["agent"] & { cpu?: number; memory?: number }) | null;
  const parts = [
    ...host.groups,
    host.os,
    facts?.cores ? `${facts.cores} ${facts.cores === 1 ? "core" : "cores"}, ${withUnit(facts.memory, "By")}` : "",
    facts?.boot_time ? `up ${duration(now - facts.boot_time)}` : "",
  ].filter(Boolean);
  const heard = host.last_seen
    ? `heard ${duration(Math.max(0, Date.now() / 1000 - unix(host.last_seen)))} ago`
    : "never heard";
  const cost =
    agent?.cpu !== undefined
      ? `, at ${(Number(agent.cpu) * 100).toFixed(1)} % of a core and ${withUnit(Number(agent.memory), "By")}`
      : "";
  return (
    <header className="mb-1.5">
      <div className="items-baseline gap-3 md:flex">
        <h1 className="flex items-center gap-1.5 font-semibold text-xl">
          <Signal state={host.state} size={22} />
          {host.name}
        </h1>
        <p className="font-dense text-ink-2 md:overflow-hidden md:text-ellipsis md:whitespace-nowrap">
          {parts.join(" · ")}
        </p>
      </div>
      <p className="font-dense text-ink-2 text-sm">
        {host.collection.mode === "probed" ? "known from probes alone" : `collected by ${host.collection.by}`}, {heard}
        {cost}
        {host.collection.problem && <span className="text-state-warning"> · {host.collection.problem}</span>}
      </p>
      <Layers name={host.name} />
      <On host={host} />
      <RunsOn host={host} />
      <Followed host={host} />
      <Collected host={host} now={now} />
    </header>
  );
}

/** What runs on the host, what asks it from outside, and the way to its inventory. */
function On({ host }: { host: Host }) {
  const [parameters] = useSearchParams();
  const services = useQuery({
    queryKey: ["services", host.name],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/services", { params: { path: { name: host.name } } })),
    refetchInterval: 15_000,
  });
  const probes = useQuery({
    queryKey: ["probes", "of", host.name],
    queryFn: () => got(api.GET("/api/v1/probes", { params: { query: { host: host.name } } })),
    refetchInterval: 15_000,
  });
  const links = [
    ...(services.data?.items ?? []).map((s) => ({ to: `/services/${s.id}`, name: s.name, state: s.state })),
    ...(probes.data?.items ?? []).map((p) => ({
      to: `/probes/${encodeURIComponent(p.name)}`,
      name: `probe ${p.name}`,
      state: p.state,
    })),
  ];
  return (
    <p className="flex flex-wrap gap-x-4 font-dense text-sm [&>a]:min-h-6 max-md:[&>a]:min-h-11 max-md:[&>a]:items-center max-md:[&>a]:inline-flex">
      {links.map((l) => (
        <Link key={l.to} className="inline-flex items-center gap-1 hover:underline" to={withSpan(l.to, parameters)}>
          <Signal state={l.state} size={15} />
          {l.name}
        </Link>
      ))}
      <Link className="text-primary" to={withSpan(`/fleet/${encodeURIComponent(host.name)}/inventory`, parameters)}>
        Inventory and changes
      </Link>
      <Link className="text-primary" to={withSpan(`/fleet/${encodeURIComponent(host.name)}/processes`, parameters)}>
        What it was busy with
      </Link>
      <Link
        className="text-primary"
        to={`/availability?${new URLSearchParams({ of: "host", name: host.name, from: "-30d" })}`}
      >
        Availability
      </Link>
    </p>
  );
}

interface FollowStatus {
  path: string;
  status: string;
  detail: string;
}

const WELL = ["following", "empty"];

/** What of the host's followed files has to be looked at; all of them stand under its sources. */
function Followed({ host }: { host: Host }) {
  const follow = (host.agent?.follow ?? []) as FollowStatus[];
  if (!follow.length) return null;
  const troubled = follow.filter((f) => !WELL.includes(f.status));
  return (
    <p className="font-dense text-ink-2 text-sm">
      follows{" "}
      <Link className="link touch" to={`/events/sources?host=${encodeURIComponent(host.name)}`}>
        {plural(follow.length, "file")}
      </Link>
      {troubled.slice(0, 3).map((f) => (
        <span key={f.path}>
          ; <span className="text-state-warning">{f.path}</span>: {f.detail}
        </span>
      ))}
      {troubled.length > 3 && `; and ${troubled.length - 3} more that have to be looked at`}
    </p>
  );
}
