import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { STATE, withUnit } from "../lib/format";
import { nodeOf } from "../lib/nodes";
import { COLOUR } from "../lib/states";
import { useAddress } from "../lib/useAddress";
import { withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { RollUp } from "../tree/RollUp";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { useWidth } from "../ui/useWidth";
import { sentence } from "./Applications";
import { Drawing } from "./Drawing";
import { lines, placed, ROW, TOP } from "./layout";

type Application = Schemas["Application"];
type Station = Schemas["Station"];

export function Component() {
  const { name = "" } = useParams();
  const application = useQuery({
    queryKey: ["applications", name],
    queryFn: () => got(api.GET("/api/v1/applications/{name}", { params: { path: { name } } })),
    refetchInterval: 10_000,
    retry: false,
  });
  if (application.isError) return <Failure error={application.error} again={() => void application.refetch()} />;
  if (!application.data) return <Waiting what={name} lines={6} />;
  return <ApplicationPage application={application.data} />;
}

function ApplicationPage({ application: a }: { application: Application }) {
  const [parameters, change] = useAddress();
  const may = useMay("operator");
  const client = useQueryClient();
  const go = useNavigate();
  const [chosen, setChosen] = useState<string>();
  const editing = parameters.get("edit") === "yes";
  const edit = (on: boolean) => change({ edit: on ? "yes" : "" });
  const station = a.parts.find((p) => p.name === (chosen ?? a.because[0]));
  return (
    <>
      <header className="mb-2 flex items-baseline gap-4">
        <h1 className="flex items-center gap-1.5 font-semibold text-xl">
          <Signal state={a.state} size={22} />
          {a.name}
        </h1>
        <p className="grow font-dense text-ink-2">{a.about}</p>
        {may && (
          <button type="button" className="btn btn-sm" onClick={() => edit(!editing)}>
            {editing ? "Done" : "Change the drawing"}
          </button>
        )}
        {may && editing && (
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            onClick={() => {
              if (!window.confirm(`Delete the application ${a.name}? Its parts stay where they are.`)) return;
              void got(api.DELETE("/api/v1/applications/{name}", { params: { path: { name: a.name } } }))
                .then(() => client.invalidateQueries({ queryKey: ["applications"] }))
                .then(() => go("/applications"));
            }}
          >
            Delete
          </button>
        )}
      </header>
      <p className="mb-2 text-lg">{sentence(a)}</p>
      <Diagram application={a} chosen={station?.name} choose={setChosen} />
      {editing ? <Drawing name={a.name} /> : station && <About station={station} application={a} />}
      {!editing && (
        <section aria-label="Its hosts" className="mt-5">
          <h2 className="mb-1 font-semibold">Its hosts, and which layer of them</h2>
          <RollUp by="application" below={nodeOf(["application", a.name])} />
        </section>
      )}
    </>
  );
}

function Diagram({
  application: a,
  chosen,
  choose,
}: {
  application: Application;
  chosen: string | undefined;
  choose: (name: string) => void;
}) {
  const [box, width] = useWidth<HTMLElement>(1000);
  const stations = placed(a.parts, a.needs, width);
  const edges = lines(stations, a.needs, width);
  const height = Math.max(120, ...stations.map((p) => p.y)) + ROW - 8;
  if (!a.parts.length) return <p className="py-6 text-ink-2">Nothing is drawn yet: change the drawing to add parts.</p>;
  const columns = Math.max(0, ...a.parts.map((s) => s.rank)) + 1;
  return (
    <section ref={box} aria-label="Line diagram" className="border-base-300 border-y">
      <svg width={width} height={height} className="block font-dense" aria-hidden="true">
        <text x={0} y={16} fontSize="12" fill="var(--ink-2)">
          users
        </text>
        <text x={width} y={16} fontSize="12" fill="var(--ink-2)" textAnchor="end">
          {columns > 1 ? "storage" : ""}
        </text>
        {edges.map((e) => (
          <path
            key={`${e.from} ${e.to}`}
            d={e.path}
            fill="none"
            stroke={e.bad ? COLOUR[a.parts.find((p) => p.name === e.to)?.state ?? "ok"] : "var(--ink-2)"}
            strokeWidth={e.bad ? 3.2 : 2}
            opacity={e.bad ? 1 : 0.45}
            strokeLinejoin="round"
          />
        ))}
        {stations.map(({ station, x, y }) => (
          <g key={station.name}>
            <circle cx={x} cy={y} r={9} fill="var(--color-base-100)" stroke={COLOUR[station.state]} strokeWidth="2.5" />
            <circle cx={x} cy={y} r={5} fill={COLOUR[station.own]} />
          </g>
        ))}
      </svg>
      <ul className="relative" style={{ marginTop: -height, height }}>
        {stations.map(({ station, x, y }) => (
          <li key={station.name} className="absolute" style={{ left: x - 10, top: y + TOP / 4 }}>
            <button
              type="button"
              aria-pressed={station.name === chosen}
              className={`flex min-h-6 max-w-48 items-start gap-1 rounded px-1 text-left font-dense text-sm leading-tight hover:underline ${station.name === chosen ? "bg-base-200" : "bg-base-100/80"}`}
              onClick={() => choose(station.name)}
            >
              <Signal state={station.own} size={17} />
              <span>
                <span className="font-semibold">{station.name}</span>
                {!worstOf(station) && <span className="block text-ink-2 text-xs">{figure(station)}</span>}
              </span>
            </button>
            <WorstAlert station={station} />
          </li>
        ))}
      </ul>
    </section>
  );
}

const worstOf = (station: Station) => station.alerts?.[0];

/** What is wrong with a station, leading to it. */
function WorstAlert({ station }: { station: Station }) {
  const [parameters] = useSearchParams();
  const worst = worstOf(station);
  if (!worst) return null;
  return (
    <Link
      className="ml-6 block min-h-6 max-w-44 font-dense text-xs leading-tight hover:underline"
      to={withSpan(`/alerts/${worst.id}`, parameters)}
    >
      <span className={worst.severity === "critical" ? "text-state-critical" : "text-state-warning"}>
        {alertFigure(worst)}
      </span>
      <span className="line-clamp-1 text-ink-2">{worst.about}</span>
    </Link>
  );
}

function alertFigure(alert: Schemas["StationAlert"]): string {
  if (alert.unit === STATE || alert.value === null) return alert.severity;
  return `${withUnit(alert.value, alert.unit)}, limit ${withUnit(alert.limit, alert.unit)}`;
}

/** What stands under a station: whom it is held up by, else its figure. */
function figure(station: Station): string {
  const [first, ...others] = station.because;
  if (first) return `held up by ${first}${others.length ? ` and ${others.length} more` : ""}`;
  const f = station.figure;
  if (!f || f.value === null) return station.own === "ok" ? "" : station.own;
  return f.unit.startsWith("{") ? withUnit(f.value, f.unit) : `${f.name} ${withUnit(f.value, f.unit)}`;
}

/** One part: where it leads, what it needs, and whom its trouble hurts. */
function About({ station, application }: { station: Station; application: Application }) {
  const [parameters] = useSearchParams();
  const needs = application.needs.filter((n) => n.from === station.name);
  const above = everyoneAbove(station.name, application.needs);
  const to = station.service_id
    ? `/services/${station.service_id}`
    : station.host
      ? `/fleet/${encodeURIComponent(station.host)}`
      : station.probe
        ? `/probes/${encodeURIComponent(station.probe)}`
        : "/fleet";
  return (
    <section aria-label={station.name} className="mt-4 grid grid-cols-3 gap-8">
      <div>
        <h2 className="flex items-center gap-1.5 font-semibold text-lg">
          <Signal state={station.own} size={18} />
          <Link className="hover:underline" to={withSpan(to, parameters)}>
            {station.name}
          </Link>
        </h2>
        <p className="font-dense text-ink-2">
          {station.service
            ? `the service ${station.service} on ${station.host}`
            : station.host
              ? `the host ${station.host}`
              : station.group
                ? `the group ${station.group}`
                : `the probe ${station.probe}`}
          {station.from_plan && `, by the plan ${station.from_plan}`}
        </p>
        {station.about && <p>{station.about}</p>}
        <ul>
          {(station.alerts ?? []).map((alert) => (
            <li key={alert.id}>
              <Link className="hover:underline" to={withSpan(`/alerts/${alert.id}`, parameters)}>
                <Signal state={alert.severity} size={16} /> {alert.about}: {alertFigure(alert)}
              </Link>
            </li>
          ))}
        </ul>
        <p className="mt-1">
          {station.own === station.state
            ? `It is ${station.own}.`
            : `By itself it is ${station.own}; with what it needs it is ${station.state}, because of ${station.because.join(", ")}.`}
        </p>
      </div>
      <div className="font-dense">
        <h3 className="font-semibold">What it needs</h3>
        {!needs.length && <p className="text-ink-2">nothing that is drawn</p>}
        <ul className="hairline">
          {needs.map((n, i) => (
            <li key={i} className="border-base-300 border-t py-0.5">
              {n.to.join(", ")}
              {n.at_least && n.at_least < n.to.length && <span className="text-ink-2">, at least {n.at_least}</span>}
            </li>
          ))}
        </ul>
      </div>
      <div className="font-dense">
        <h3 className="font-semibold">What depends on it</h3>
        {!above.length && <p className="text-ink-2">nothing else: it is where the users are</p>}
        <ul className="hairline">
          {above.map((n) => (
            <li key={n} className="border-base-300 border-t py-0.5">
              {n}
            </li>
          ))}
        </ul>
      </div>
    </section>
  );
}

function everyoneAbove(part: string, needs: Schemas["Need"][]): string[] {
  const found: string[] = [];
  const waiting = [part];
  for (let one = waiting.shift(); one !== undefined; one = waiting.shift()) {
    for (const n of needs) {
      if (n.to.includes(one) && !found.includes(n.from) && n.from !== part) {
        found.push(n.from);
        waiting.push(n.from);
      }
    }
  }
  return found;
}
