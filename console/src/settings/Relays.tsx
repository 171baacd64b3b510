import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { duration, plural, unix, withUnit } from "../lib/format";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { StateWord } from "../ui/Signal";
import { Line, Listing } from "./parts";

interface Report {
  waiting: number;
  waiting_bytes: number;
  limit_bytes: number;
  oldest_at: number | null;
  dropped: number;
  refused: number;
  forwarded: number;
  thinned?: number;
  summed?: number;
  unsummed?: number;
  cpu: number;
  memory: number;
  problem: string | null;
}

export function Component() {
  const client = useQueryClient();
  const may = useMay("administrator");
  const relays = useQuery({
    queryKey: ["relays"],
    queryFn: () => got(api.GET("/api/v1/relays")),
    refetchInterval: 5_000,
  });
  if (relays.isError) return <Failure error={relays.error} />;
  if (!relays.data) return <Waiting what="the relays" />;
  if (!relays.data.items.length)
    return (
      <Empty title="No relays">
        A relay stands at a site that cannot always reach this console: it keeps what its agents send and forwards it
        when it can, and it reads hosts there.{" "}
        <Link className="link" to="/enrol?way=site">
          Enrol a relay
        </Link>
      </Empty>
    );
  return (
    <Listing
      columns={[
        "relay",
        "state",
        "site",
        "agents behind",
        "reads",
        "waiting",
        "lost",
        "by plan",
        "cost",
        "last heard",
        "",
      ]}
    >
      {relays.data.items.map((r) => {
        const report = r.report as Report | null;
        const share = report ? (100 * report.waiting_bytes) / report.limit_bytes : 0;
        return (
          <Line
            key={r.name}
            cells={[
              <span key="n" className="font-semibold">
                {r.name}
              </span>,
              <StateWord key="s" state={r.state} />,
              r.site ?? "",
              String(r.behind),
              plural(r.remote_hosts, "host"),
              report
                ? report.waiting
                  ? `${plural(report.waiting, "request")}, ${withUnit(report.waiting_bytes, "By")}, ${share.toFixed(0)} % full${report.oldest_at ? `, oldest ${duration(Date.now() / 1000 - report.oldest_at)}` : ""}`
                  : "nothing"
                : "",
              report?.dropped ? (
                <span key="d" className="font-semibold text-state-critical">
                  {report.dropped}: the buffer was full
                </span>
              ) : (
                "nothing"
              ),
              byPlan(report),
              report ? `${(report.cpu * 100).toFixed(1)} % of a core, ${withUnit(report.memory, "By")}` : "",
              r.last_seen ? `${duration(Math.max(0, Date.now() / 1000 - unix(r.last_seen)))} ago` : "never",
            ]}
            action={
              may && (
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  onClick={() => {
                    if (!window.confirm(`Remove the relay ${r.name}? It may not forward any more.`)) return;
                    got(api.DELETE("/api/v1/relays/{name}", { params: { path: { name: r.name } } }))
                      .catch(() => undefined)
                      .finally(() => void client.invalidateQueries({ queryKey: ["relays"] }));
                  }}
                >
                  Remove
                </button>
              )
            }
          />
        );
      })}
    </Listing>
  );
}

/** What plans have a relay leave out and add up, since it began. */
function byPlan(report: Report | null) {
  const said = [];
  if (report?.thinned) said.push(`${report.thinned.toLocaleString("en")} points left out`);
  if (report?.summed) said.push(`${report.summed.toLocaleString("en")} added up`);
  if (report?.unsummed) said.push(`${report.unsummed.toLocaleString("en")} of them in no sum`);
  return said.join(", ");
}
