import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { moment, plural, unix, withUnit } from "../lib/format";
import { Empty } from "../ui/Note";
import { Bar, BusyRow, BusyTable, type Heading, NotYet, useBusy } from "./BusyTable";
import { linesOf, type Order } from "./busy";
import { has, type Shared } from "./Processes";

type Of = "process" | "program" | "user";

export function BusyProcesses({
  host,
  span,
  text,
  of,
  by,
  pid,
}: Shared & { of: Of; by: Order; pid?: number | undefined }) {
  const answer = useBusy("processes", host, `${of} ${by}`, span, (asked) =>
    got(
      api.GET("/api/v1/hosts/{name}/processes", {
        params: { path: { name: host }, query: { ...asked, by, of } },
      }),
    ),
  );
  const services = useServices(host);
  if (answer.isError || !answer.data) return <NotYet answer={answer} what={`the busiest of ${host}`} />;
  const { items, looked, measured } = answer.data;
  const shown = items.filter((one) => has(text, one.pid, one.program, one.user, one.command, one.service));
  if (!items.length)
    return (
      <Empty title="Nothing is known of processes in this span.">The part “processes” of a plan tells of them.</Empty>
    );
  const seconds = span.end - span.start;
  const most = Math.max(
    ...items.map((one) => (by === "cpu" ? one.cpu_seconds : by === "memory" ? one.memory_peak : (one.io_bytes ?? 0))),
  );
  const headings: Heading[] = [
    { name: of === "user" ? "user" : of },
    { name: "processor time", right: true },
    { name: "at most", right: true, wide: true },
    { name: "memory", right: true },
    { name: "read and written", right: true, wide: true },
    ...(of === "process"
      ? [
          { name: "from", wide: true },
          { name: "to", wide: true },
        ]
      : []),
    { name: "leads to" },
  ];
  return (
    <>
      <BusyTable label={`The busiest of ${host}`} headings={headings}>
        {shown.map((one) => (
          <BusyRow
            key={`${one.pid} ${one.program} ${one.user} ${one.started_at}`}
            chosen={one.pid !== null && one.pid === pid}
            headings={headings}
            cells={[
              <Named key="name" one={one} of={of} />,
              by === "cpu" ? (
                <Bar key="cpu" part={one.cpu_seconds / most}>
                  {withUnit(one.cpu_seconds, "s")}
                </Bar>
              ) : (
                withUnit(one.cpu_seconds, "s")
              ),
              withUnit(one.cpu_peak, "{core}"),
              by === "memory" ? (
                <Bar key="memory" part={one.memory_peak / most}>
                  {withUnit(one.memory_peak, "By")}
                </Bar>
              ) : (
                withUnit(one.memory_peak, "By")
              ),
              one.io_bytes === null ? (
                <span className="text-ink-2">not known</span>
              ) : by === "io" && most > 0 ? (
                <Bar key="io" part={one.io_bytes / most}>
                  {withUnit(one.io_bytes, "By")}
                </Bar>
              ) : (
                withUnit(one.io_bytes, "By")
              ),
              ...(of === "process"
                ? [
                    one.started_at ? moment(unix(one.started_at), span.end, true) : "",
                    one.ended_at ? moment(unix(one.ended_at), span.end, true) : "",
                  ]
                : []),
              <Leads key="leads" host={host} one={one} of={of} span={span} services={services} />,
            ]}
          />
        ))}
      </BusyTable>
      {pid !== undefined && !items.some((one) => one.pid === pid) && (
        <p className="mt-2">Process {pid} was not among the busiest in this span.</p>
      )}
      <p className="mt-2 font-dense text-ink-2 text-xs">
        From {plural(looked, "look")} at the busiest
        {measured && "; processor time and memory from series of every turn"}. One core that was never idle takes{" "}
        {withUnit(seconds, "s")} of processor time in this span.
      </p>
    </>
  );
}

function Named({ one, of }: { one: Schemas["ProcessSpan"]; of: Of }) {
  if (of === "user") return <span className="font-semibold">{one.user || "nobody"}</span>;
  return (
    <span className="block max-w-[52ch]">
      <span className="font-semibold">{one.program}</span>{" "}
      <span className="text-ink-2">
        {of === "process" && one.pid}
        {one.parent ? `, of ${one.parent}` : ""} {one.user}
      </span>
      {one.command && one.command !== one.program && (
        <span className="block truncate text-ink-2 text-xs" title={one.command}>
          {one.command}
        </span>
      )}
    </span>
  );
}

function Leads({
  host,
  one,
  of,
  span,
  services,
}: {
  host: string;
  one: Schemas["ProcessSpan"];
  of: Of;
  span: Shared["span"];
  services: Schemas["Service"][];
}) {
  const service = services.find((known) => known.name === one.service);
  const ends = { from: String(Math.floor(span.start)), to: String(Math.ceil(span.end)) };
  return (
    <span className="flex flex-wrap gap-x-3">
      {service && (
        <Link className="link touch" to={`/services/${service.id}?${new URLSearchParams(ends)}`}>
          {service.name}
        </Link>
      )}
      {of !== "user" && (
        <Link className="link touch" to={`/events?${new URLSearchParams({ where: linesOf(host, one), ...ends })}`}>
          log lines
        </Link>
      )}
    </span>
  );
}

function useServices(host: string) {
  const services = useQuery({
    queryKey: ["services", host],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/services", { params: { path: { name: host } } })),
    staleTime: 60_000,
  });
  return services.data?.items ?? [];
}
