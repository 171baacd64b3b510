import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { plural } from "../lib/format";
import { rank } from "../lib/states";
import { withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";

type Application = Schemas["Application"];

/** Every application, the worst first: what is wrong with it, and which of its parts is the cause. */
export function Component() {
  const [parameters] = useSearchParams();
  const may = useMay("operator");
  const [making, setMaking] = useState(false);
  const applications = useQuery({
    queryKey: ["applications"],
    queryFn: () => got(api.GET("/api/v1/applications")),
    refetchInterval: 15_000,
  });
  if (applications.isError) return <Failure error={applications.error} again={() => void applications.refetch()} />;
  const items = [...(applications.data?.items ?? [])].sort(
    (a, b) => rank(a.state) - rank(b.state) || a.position - b.position || a.name.localeCompare(b.name),
  );
  return (
    <>
      <div className="mb-3 flex items-center gap-4">
        <h1 className="font-semibold text-xl">Applications</h1>
        {may && (
          <button type="button" className="btn btn-sm" onClick={() => setMaking(!making)}>
            {making ? "Close" : "New application"}
          </button>
        )}
      </div>
      {making && <NewApplication />}
      {applications.isPending && <Waiting what="the applications" lines={5} />}
      {applications.data && !items.length && (
        <Empty title="No application is drawn yet">
          An application is what people outside know by name: its web servers, the services behind them, the databases,
          and which needs which. A part's trouble then says whom it hurts.
        </Empty>
      )}
      <ul className="hairline">
        {items.map((a) => (
          <li key={a.name} className="border-base-300 border-t py-2">
            <Link
              className="flex items-baseline gap-3 hover:underline"
              to={withSpan(`/applications/${encodeURIComponent(a.name)}`, parameters)}
            >
              <Signal state={a.state} size={22} />
              <span className="w-52 font-semibold text-lg">{a.name}</span>
              <span className="w-24 font-dense">{a.state}</span>
              <span className="font-dense">{sentence(a)}</span>
            </Link>
            <p className="pl-[34px] font-dense text-ink-2 text-sm">{a.about}</p>
          </li>
        ))}
      </ul>
      <Connections />
    </>
  );
}

/** What is wrong with an application, in a sentence. */
export function sentence(a: Application): string {
  if (!a.because.length) return `All ${plural(a.parts.length, "part")} are well`;
  const shown = a.because.slice(0, 3).join(", ");
  const more = a.because.length - 3;
  const hurt = a.state === "ok" ? "; those who use it do not notice" : "";
  return `Not well: ${shown}${more > 0 ? ` and ${more} more` : ""}${hurt}`;
}

function NewApplication() {
  const go = useNavigate();
  const client = useQueryClient();
  const [error, setError] = useState<unknown>();
  const make = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const held = new FormData(event.currentTarget);
    const name = String(held.get("name")).trim();
    const body = { about: String(held.get("about") ?? ""), position: 0, parts: [], needs: [] };
    got(api.PUT("/api/v1/applications/{name}", { params: { path: { name } }, body }))
      .then(() => client.invalidateQueries({ queryKey: ["applications"] }))
      .then(() => go(`/applications/${encodeURIComponent(name)}?edit=yes`))
      .catch(setError);
  };
  return (
    <form onSubmit={make} className="mb-4 flex items-end gap-3 border-base-300 border-y py-3 text-sm">
      <label>
        Name, as people outside know it
        <input name="name" required className="input input-sm block w-56" />
      </label>
      <label className="grow">
        What it is for
        <input name="about" className="input input-sm block w-full" />
      </label>
      <button type="submit" className="btn btn-primary btn-sm">
        Draw it
      </button>
      {error !== undefined && <Failure error={error} />}
    </form>
  );
}

/** Who was seen talking to whose port, and is in no application yet. */
function Connections() {
  const talks = useQuery({
    queryKey: ["connections"],
    queryFn: () => got(api.GET("/api/v1/applications/connections")),
    refetchInterval: 60_000,
  });
  const fresh = (talks.data?.items ?? []).filter((t) => !t.known);
  if (!fresh.length) return null;
  return (
    <section aria-label="Seen connections" className="mt-6 font-dense">
      <h2 className="font-semibold">Seen by agents, and in no application</h2>
      <ul className="hairline text-sm">
        {fresh.slice(0, 15).map((t) => (
          <li key={`${t.from_host} ${t.to_host} ${t.port}`} className="border-base-300 border-t py-0.5">
            <strong>{t.from_host}</strong> talks to {t.to_service ?? t.process} on <strong>{t.to_host}</strong>, port{" "}
            {t.port} <span className="text-ink-2">({plural(t.seen, "time")} today)</span>
          </li>
        ))}
      </ul>
      {fresh.length > 15 && <p className="text-ink-2 text-sm">and {fresh.length - 15} more</p>}
    </section>
  );
}
