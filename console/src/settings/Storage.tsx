import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";
import { duration, withUnit } from "../lib/format";
import { Failure, Waiting } from "../ui/Note";
import { Copies } from "./Copies";
import { Keeping } from "./Keeping";

/** What the console says of itself: size, growth, retention, and what it counted. */
export function Component() {
  const status = useQuery({
    queryKey: ["status", "figures"],
    queryFn: () => got(api.GET("/api/v1/status")),
    refetchInterval: 5_000,
  });
  if (status.isError) return <Failure error={status.error} />;
  const figures = status.data?.figures;
  if (!figures) return <Waiting what="the figures" />;
  const { storage } = figures;
  const rows: [string, string][] = [
    ["Version", status.data?.version ?? ""],
    ["Running for", duration(figures.uptime_seconds)],
    ["Processor", `${(figures.cpu * 100).toFixed(1)} % of a core`],
    ["Memory", withUnit(figures.memory, "By")],
    ["Taking in", `${figures.points_per_second.toFixed(1)} points/s, ${figures.events_per_second.toFixed(1)} events/s`],
    [
      "Watching",
      `${figures.watched_groups} things on ${figures.hosts} hosts, last look took ${(figures.last_tick_seconds * 1000).toFixed(1)} ms`,
    ],
    [
      "Series",
      `${storage.series_count.toLocaleString("en")}, ${storage.samples_waiting.toLocaleString("en")} samples not yet sealed`,
    ],
    ["Metrics on disk", withUnit(storage.series, "By")],
    ["Events on disk", withUnit(storage.events, "By")],
    ["State on disk", withUnit(storage.state, "By")],
    [
      "Growth",
      storage.growth === null ? "known half an hour after the start" : `${withUnit(storage.growth, "By")} a day`,
    ],
    ["Free on this disk", withUnit(storage.free, "By")],
    ["Raw points are kept", `${storage.keeps_raw_days} days`],
    ["5-minute rollups are kept", `${storage.keeps_5m_days} days`],
    ["1-hour rollups are kept", `${storage.keeps_1h_days} days`],
    ["Events are kept", `${storage.keeps_events_days} days`],
  ];
  return (
    <>
      <div className="grid max-w-4xl grid-cols-2 gap-10">
        <dl className="hairline font-dense">
          {rows.map(([name, value]) => (
            <div key={name} className="grid grid-cols-2 py-1">
              <dt className="text-ink-2">{name}</dt>
              <dd>{value}</dd>
            </div>
          ))}
        </dl>
        <div>
          <h2 className="mb-1 font-semibold">Counted since the start</h2>
          <dl className="hairline font-dense">
            {Object.entries(figures.counters).map(([name, value]) => (
              <div key={name} className="grid grid-cols-2 py-1">
                <dt className="text-ink-2">{name}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
        </div>
      </div>
      <Copies />
      <Keeping />
    </>
  );
}
