import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { api, type Event, got, type Host, type Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import { clock, duration, moment, plural, stretch, unix, withUnit } from "../lib/format";
import { useAlerts } from "../lib/queries";
import { instant } from "../lib/span";
import { WEIGHT_STATE, weight } from "../lib/states";
import { Signal } from "../ui/Signal";

interface Props {
  host: Host;
  start: number;
  end: number;
  drawn: boolean;
  zoom: (start: number, end: number) => void;
  clear: () => void;
  changes: Event[];
}

/** What is beneath the lanes: everything answers for just the span that was drawn. */
export function Beneath({ host, start, end, drawn, zoom, clear, changes }: Props) {
  const evidence = useQuery({
    queryKey: ["evidence", host.name, start, end],
    queryFn: () =>
      got(
        api.GET("/api/v1/hosts/{name}/evidence", {
          params: { path: { name: host.name }, query: { from: instant(start), to: instant(end) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const lines = useQuery({
    queryKey: ["patterns", host.name, start, end],
    queryFn: () =>
      got(
        api.POST("/api/v1/events/patterns", {
          body: {
            where: `host eq ${quoted(host.name)} and source ne "change"`,
            from: instant(start),
            to: instant(end),
            order: "count",
            limit: 8,
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const alerts = useAlerts({ where: `host eq ${quoted(host.name)}`, start, end });
  const inSpan = changes.filter((e) => unix(e.time) >= start && unix(e.time) <= end);
  const sessions = evidence.data?.sessions ?? [];
  const eventsLink = `/events?${new URLSearchParams({ where: `host eq ${quoted(host.name)}`, from: String(Math.floor(start)), to: String(Math.ceil(end)) })}`;
  return (
    <section aria-label="In the span" className="mt-2">
      <div className="mb-1 flex flex-wrap items-center gap-3">
        <h2 className="font-dense font-semibold text-primary">
          {stretch(start, end)}, {drawn ? "the span you drew" : "the whole span; drag across the lanes to draw one"}
        </h2>
        {drawn && (
          <>
            <button type="button" className="btn btn-xs" onClick={() => zoom(start, end)}>
              Zoom to it
            </button>
            <button type="button" className="btn btn-ghost btn-xs" onClick={clear}>
              Clear
            </button>
          </>
        )}
        <Link className="link touch inline-flex items-center font-dense text-sm" to={eventsLink}>
          All events of it
        </Link>
      </div>
      <div className="grid items-start gap-x-6 gap-y-4 font-dense md:grid-cols-3">
        {sessions.some((s) => s.depth > 0) && <Sessions sessions={sessions} />}
        <Table
          title="Busiest processes"
          columns={["CPU", "memory"]}
          empty={evidence.data ? "none was kept in this span" : ""}
        >
          {evidence.data?.processes.slice(0, 8).map((p) => (
            <Row
              key={`${p.name} ${p.user}`}
              cells={[`${(p.cpu * 100).toFixed(p.cpu < 0.1 ? 1 : 0)} %`, withUnit(p.memory, "By")]}
              title={`${p.user}, pid ${p.pids.join(", ")}; CPU as a share of one core`}
            >
              {p.name} <span className="text-ink-2">{p.user}</span>
            </Row>
          ))}
        </Table>
        {evidence.data && evidence.data.signed_in.length > 0 && (
          <Table title="Signed in" columns={["CPU", "for"]}>
            {evidence.data.signed_in.slice(0, 8).map((p) => (
              <Row
                key={`${p.user} ${p.terminal} ${p.at - p.seconds}`}
                cells={[`${(p.cpu * 100).toFixed(1)} %`, duration(p.seconds)]}
                title={`${p.user} on ${p.terminal}${p.origin ? ` from ${p.origin}` : ""}, ${withUnit(p.memory, "By")}; as seen last in the span`}
              >
                {p.user} <span className="text-ink-2">{p.origin || p.terminal}</span>
              </Row>
            ))}
          </Table>
        )}
        <Table
          title="What the log says"
          columns={["times", "yesterday"]}
          empty={lines.data ? "nothing in this span" : ""}
        >
          {lines.data?.items.map((p) => {
            const kind = weight(p.severity);
            return (
              <Row
                key={`${p.pattern} ${p.source} ${p.severity}`}
                cells={[String(p.count), p.yesterday === null ? "" : String(p.yesterday)]}
                title={`${p.severity}, ${p.source}: ${p.example}`}
              >
                {kind !== "rest" && <Signal state={WEIGHT_STATE[kind]} size={15} label={p.severity} />} {p.pattern}
              </Row>
            );
          })}
        </Table>
        {alerts.data && alerts.data.items.length > 0 && (
          <Table title="Alerts" columns={["opened", "lasted"]}>
            {alerts.data.items.slice(0, 8).map((a) => (
              <Row
                key={a.id}
                cells={[
                  moment(unix(a.opened_at), end),
                  a.recovered_at ? duration(unix(a.recovered_at) - unix(a.opened_at)) : "open",
                ]}
                title={a.about}
              >
                <Link className="hover:underline" to={`/alerts/${a.id}`}>
                  <Signal state={a.severity} size={15} /> {a.about}
                </Link>
              </Row>
            ))}
          </Table>
        )}
        {inSpan.length > 0 && (
          <Table title="Changes" columns={["at"]}>
            {inSpan.slice(0, 8).map((e) => (
              <Row key={e.id} cells={[clock(unix(e.time), true)]} title={e.body}>
                {e.body}
              </Row>
            ))}
          </Table>
        )}
      </div>
      {evidence.data && evidence.data.snapshots > 0 && (
        <p className="mt-2 font-dense text-ink-2 text-xs">
          Processes are means over {plural(evidence.data.snapshots, "moment")} looked at in the span; CPU as a share of
          one core.
        </p>
      )}
    </section>
  );
}

export function Sessions({ sessions }: { sessions: Schemas["Session"][] }) {
  const involved = sessions.filter((s) => s.root);
  const shown = involved.slice(0, 6);
  const more = involved.length - shown.length;
  const at = sessions[0]?.at;
  return (
    <Table title={`Sessions, blocked by${at ? `, at ${clock(at, true)}` : ""}`} columns={["for"]}>
      {shown.map((s) => (
        <Row key={s.id} cells={[duration(s.seconds)]} title={`${s.user} from ${s.client}, ${s.state}: ${s.statement}`}>
          <span style={{ paddingLeft: s.depth * 14 }}>
            {s.depth === 0 ? (
              <Signal state="critical" size={15} label="holds the others" />
            ) : (
              <span className="text-ink-2">└</span>
            )}{" "}
            <span className="font-semibold">{s.application || s.user}</span>{" "}
            <span className="text-ink-2">{s.statement}</span>
          </span>
        </Row>
      ))}
      {more > 0 && (
        <Row cells={[""]} title="">
          <span className="pl-4 text-ink-2">and {more} more wait</span>
        </Row>
      )}
    </Table>
  );
}

/** A small table without boxes: a title and narrow columns of numbers. */
export function Table({
  title,
  columns,
  empty,
  children,
}: {
  title: string;
  columns: string[];
  empty?: string;
  children: ReactNode;
}) {
  const some = Array.isArray(children) ? children.flat().some(Boolean) : Boolean(children);
  return (
    <table className="w-full table-fixed border-collapse text-sm">
      <thead>
        <tr className="border-base-300 border-b text-ink-2">
          <th scope="col" className="py-1 text-left font-semibold">
            {title}
          </th>
          {columns.map((c) => (
            <th key={c} scope="col" className="w-20 py-1 text-right font-normal">
              {c}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {children}
        {!some && empty && (
          <tr>
            <td colSpan={columns.length + 1} className="py-1.5 text-ink-2">
              {empty}
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

export function Row({ cells, title, children }: { cells: string[]; title: string; children: ReactNode }) {
  return (
    <tr className="border-base-300 border-b" title={title}>
      <td className="grow-cell max-w-0 py-1">{children}</td>
      {cells.map((cell, i) => (
        <td key={i} className="whitespace-nowrap py-1 text-right">
          {cell}
        </td>
      ))}
    </tr>
  );
}
