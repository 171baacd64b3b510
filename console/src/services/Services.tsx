import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { FleetTabs } from "../fleet/Tabs";
import { plural } from "../lib/format";
import { rank } from "../lib/states";
import { withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { StateWord } from "../ui/Signal";

type Service = Schemas["Service"];
type Proposal = Schemas["Proposal"];

/** Every service that is read, the worst first, and below it what was found and is not read yet. */
export function Component() {
  const [parameters] = useSearchParams();
  const services = useQuery({
    queryKey: ["services"],
    queryFn: () => got(api.GET("/api/v1/services")),
    refetchInterval: 15_000,
  });
  if (services.isError) return <Failure error={services.error} again={() => void services.refetch()} />;
  const items = [...(services.data?.items ?? [])].sort(
    (a, b) => rank(a.state) - rank(b.state) || a.host.localeCompare(b.host) || a.name.localeCompare(b.name),
  );
  const bad = items.filter((s) => s.state === "critical" || s.state === "warning").length;
  return (
    <>
      <FleetTabs />
      <h1 className="mb-2 font-semibold text-xl">
        {plural(items.length, "service")}
        {bad > 0 && `, ${bad} of them not well`}
      </h1>
      {services.isPending && <Waiting what="the services" lines={8} />}
      {services.data && !items.length && (
        <Empty title="No service is read yet">
          What agents find listening is proposed below. A service on a host without an agent is added with{" "}
          <code>balise service add HOST --kit KIT --mode remote</code>.
        </Empty>
      )}
      {items.length > 0 && (
        <table className="w-full border-collapse font-dense">
          <thead>
            <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
              <th scope="col" className="w-24 py-1 font-normal">
                state
              </th>
              <th scope="col" className="font-normal">
                service
              </th>
              <th scope="col" className="font-normal">
                on
              </th>
              <th scope="col" className="font-normal">
                version
              </th>
              <th scope="col" className="font-normal">
                read by
              </th>
              <th scope="col" className="font-normal">
                problem
              </th>
            </tr>
          </thead>
          <tbody>
            {items.map((s: Service) => (
              <tr key={s.id} className="border-base-300 border-b align-top">
                <td className="py-1">
                  <StateWord state={s.state} />
                </td>
                <td className="py-1 pr-4">
                  <Link className="font-semibold hover:underline" to={withSpan(`/services/${s.id}`, parameters)}>
                    {s.name}
                  </Link>{" "}
                  <span className="text-ink-2 text-sm">
                    {s.kit} {s.kit_version}
                  </span>
                </td>
                <td className="py-1 pr-4">
                  <Link className="hover:underline" to={withSpan(`/fleet/${encodeURIComponent(s.host)}`, parameters)}>
                    {s.host}
                  </Link>
                </td>
                <td className="py-1 pr-4">{s.version ?? ""}</td>
                <td className="py-1 pr-4 text-ink-2">
                  {s.collection.by}, every {s.every}
                </td>
                <td className="max-w-md py-1">
                  {s.collection.problem && <span className="block text-state-warning">{s.collection.problem}</span>}
                  {s.alerts.map((a) => (
                    <Link key={a.id} className="mr-3 hover:underline" to={withSpan(`/alerts/${a.id}`, parameters)}>
                      {a.rule.replaceAll("-", " ")}
                    </Link>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Proposals />
    </>
  );
}

function Proposals() {
  const may = useMay("operator");
  const client = useQueryClient();
  const [credential, setCredential] = useState("");
  const [answer, setAnswer] = useState<Schemas["Accepted"]>();
  const [error, setError] = useState<unknown>();
  const proposals = useQuery({
    queryKey: ["proposals"],
    queryFn: () => got(api.GET("/api/v1/services/proposals")),
    refetchInterval: 60_000,
  });
  const credentials = useQuery({
    queryKey: ["credentials"],
    queryFn: () => got(api.GET("/api/v1/credentials")),
    enabled: may,
  });
  const items = proposals.data?.items ?? [];
  const logins = (credentials.data?.items ?? []).filter((c) => c.kind === "login");
  if (!items.length && !answer) return null;
  const kits = [...new Set(items.map((p) => p.kit))];
  const take = (chosen: { hosts?: string[]; kits?: string[] }) => {
    setError(undefined);
    const body = { hosts: chosen.hosts ?? [], kits: chosen.kits ?? [], credential: credential || null };
    got(api.POST("/api/v1/services/proposals", { body }))
      .then((done) => {
        setAnswer(done);
        void client.invalidateQueries({ queryKey: ["proposals"] });
        void client.invalidateQueries({ queryKey: ["services"] });
      })
      .catch(setError);
  };
  const free = kits.filter((kit) => items.every((p) => p.kit !== kit || p.free));
  return (
    <section aria-label="Found and not read yet" className="mt-6">
      <h2 className="font-semibold text-lg">Found, and not read yet</h2>
      {answer && (
        <p role="status" className="my-1">
          {plural(answer.added.length, "service")} taken up.
          {Object.entries(answer.failed).map(([where, why]) => (
            <span key={where} className="block text-state-warning">
              {where}: {why}
            </span>
          ))}
        </p>
      )}
      {error !== undefined && <Failure error={error} />}
      {may && items.length > 0 && (
        <p className="my-2 flex flex-wrap items-center gap-3 text-sm">
          {free.length > 0 && (
            <button type="button" className="btn btn-sm" onClick={() => take({ kits: free })}>
              Read all {items.filter((p) => p.free).length} that need nothing
            </button>
          )}
          <label className="flex items-center gap-2">
            Sign in to the others with
            <select
              className="select select-sm w-44"
              value={credential}
              onChange={(e) => setCredential(e.target.value)}
            >
              <option value="">no credential</option>
              {logins.map((c) => (
                <option key={c.name}>{c.name}</option>
              ))}
            </select>
          </label>
          {kits
            .filter((kit) => !free.includes(kit))
            .map((kit) => (
              <button
                key={kit}
                type="button"
                className="btn btn-sm"
                disabled={!credential}
                onClick={() => take({ kits: [kit] })}
              >
                Read all {kit}
              </button>
            ))}
        </p>
      )}
      <ul className="hairline font-dense">
        {items.slice(0, 60).map((p: Proposal) => (
          <li key={`${p.host} ${p.kit}`} className="flex items-baseline gap-3 border-base-300 border-t py-1">
            <span className="w-40 font-semibold">{p.host}</span>
            <span className="w-32">{p.title}</span>
            <span className="grow text-ink-2">
              {p.found}
              {!p.free && p.grant && <Grant grant={p.grant} />}
            </span>
            {may && (
              <button
                type="button"
                className="btn btn-ghost btn-xs"
                disabled={!p.free && p.credential !== null && !credential}
                aria-label={`Read it: ${p.kit} on ${p.host}`}
                onClick={() => take({ hosts: [p.host], kits: [p.kit] })}
              >
                Read it
              </button>
            )}
          </li>
        ))}
      </ul>
      {items.length > 60 && <p className="text-ink-2 text-sm">and {items.length - 60} more</p>}
    </section>
  );
}

function Grant({ grant }: { grant: Schemas["KitGrant"] }) {
  return (
    <details className="text-sm">
      <summary className="w-fit cursor-pointer text-primary">what has to be granted</summary>
      <p className="max-w-prose">{grant.about}</p>
      <pre className="overflow-x-auto bg-base-200 p-2 text-xs">{grant.statements}</pre>
    </details>
  );
}
