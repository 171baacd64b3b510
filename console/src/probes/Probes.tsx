import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { FleetTabs } from "../fleet/Tabs";
import { moment, plural, unix, withUnit } from "../lib/format";
import { rank } from "../lib/states";
import { useSpan, withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { StateWord } from "../ui/Signal";
import { NewProbe } from "./NewProbe";

type Probe = Schemas["Probe"];

/** Every probe, the worst first, with what it last said. */
export function Component() {
  const [parameters] = useSearchParams();
  const { now } = useSpan();
  const may = useMay("operator");
  const [making, setMaking] = useState(false);
  const probes = useQuery({
    queryKey: ["probes"],
    queryFn: () => got(api.GET("/api/v1/probes")),
    refetchInterval: 10_000,
  });
  if (probes.isError) return <Failure error={probes.error} again={() => void probes.refetch()} />;
  const items = [...(probes.data?.items ?? [])].sort(
    (a, b) => rank(a.state) - rank(b.state) || a.name.localeCompare(b.name),
  );
  const bad = items.filter((p) => p.state === "critical").length;
  return (
    <>
      <FleetTabs />
      <div className="mb-2 flex items-center gap-4">
        <h1 className="font-semibold text-xl">
          {bad
            ? `${plural(bad, "probe")} of ${items.length} fail${bad === 1 ? "s" : ""}`
            : plural(items.length, "probe")}
        </h1>
        {may && (
          <button type="button" className="btn btn-sm" onClick={() => setMaking(!making)}>
            {making ? "Close" : "New probe"}
          </button>
        )}
      </div>
      {making && <NewProbe done={() => setMaking(false)} />}
      {probes.isPending && <Waiting what="the probes" lines={8} />}
      {probes.data && !items.length && (
        <Empty title="No probes yet">
          A probe asks a service as its users do and judges the answer: a page and the words on it, a mail server's
          greeting, a query and its value.
        </Empty>
      )}
      {items.length > 0 && (
        <table className="w-full border-collapse font-dense">
          <thead>
            <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
              {["state", "probe", "asks", "from", "took", "last", "says"].map((h) => (
                <th
                  key={h}
                  scope="col"
                  className={`py-1 pr-4 font-normal ${h === "took" ? "text-right" : ""} ${h === "state" ? "w-24" : ""}`}
                >
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {items.map((p) => (
              <tr key={p.name} className="border-base-300 border-b align-top">
                <td className="py-1">
                  <StateWord state={p.state} />
                </td>
                <td className="whitespace-nowrap py-1 pr-4">
                  <Link
                    className="font-semibold hover:underline"
                    to={withSpan(`/probes/${encodeURIComponent(p.name)}`, parameters)}
                  >
                    {p.name}
                  </Link>
                </td>
                <td className="max-w-72 break-words py-1 pr-4 text-ink-2">
                  {p.kind} {place(p)}
                </td>
                <td className="py-1 pr-4">{from(p)}</td>
                <td className="whitespace-nowrap py-1 pr-4 text-right">
                  {p.last ? withUnit(p.last.seconds, "s") : ""}
                </td>
                <td className="whitespace-nowrap py-1 pr-4">
                  {p.last ? moment(unix(p.last.at), now, true) : "not made yet"}
                </td>
                <td className={`py-1 ${p.state === "ok" ? "text-ink-2" : ""}`}>{p.last?.message}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

export function place(probe: Probe): string {
  if (typeof probe.target === "string") return probe.target;
  const { address, port, name } = probe.target;
  return `${name ? `${name} at ` : ""}${address}${port ? `:${port}` : ""}`;
}

function from(probe: Probe): string {
  const bad = probe.places.filter((p) => p.state === "critical").length;
  if (probe.places.length === 1) return probe.places[0]?.place ?? "";
  return bad ? `fails from ${bad} of ${probe.places.length} places` : `${probe.places.length} places`;
}
