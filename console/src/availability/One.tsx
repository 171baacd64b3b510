import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { duration, moment, share, unix } from "../lib/format";
import { instant, type Span } from "../lib/span";
import { withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Failure, Waiting } from "../ui/Note";
import { Ribbon } from "../ui/Ribbon";
import { upOf } from "./Availability";
import { NAMES, type Of, stretches } from "./presence";

type Available = Schemas["Availability"];

/** One thing over the span: shares, outages with the incidents that they were, and what is left of its target. */
export function One({ of, name, span, back }: { of: Of; name: string; span: Span; back: () => void }) {
  const answer = useQuery({
    queryKey: ["availability", of, "one", name, span.start, span.end],
    queryFn: () =>
      got(
        api.GET("/api/v1/availability", {
          params: { query: { of, name, from: instant(span.start), to: instant(span.end) } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const one = answer.data;
  return (
    <>
      <p className="mb-1">
        <button type="button" className="link touch" onClick={back}>
          all {of}s
        </button>
      </p>
      {answer.isError && <Failure error={answer.error} again={() => void answer.refetch()} />}
      {answer.isPending && <Waiting what={name} lines={6} />}
      {one && (
        <>
          <h2 className="mb-1 font-semibold text-lg">
            <Itself of={of} name={name} />
          </h2>
          <Ribbon changes={stretches(one.ribbon)} start={span.start} end={span.end} names={NAMES} height={34} />
          <Figures one={one} />
          <Target one={one} />
          <Outages one={one} end={span.end} />
        </>
      )}
    </>
  );
}

function Itself({ of, name }: { of: Of; name: string }) {
  const [parameters] = useSearchParams();
  const at = { host: "/fleet", application: "/applications", probe: "/probes", service: "" }[of];
  if (!at) return name;
  return (
    <Link className="hover:underline" to={withSpan(`${at}/${encodeURIComponent(name)}`, parameters)}>
      {name}
    </Link>
  );
}

function Figures({ one }: { one: Available }) {
  const figures: [string, string, string][] = [
    ["up", upOf(one), "of the time that is known"],
    ["down", duration(one.down_seconds), `${one.outage_count} ${one.outage_count === 1 ? "outage" : "outages"}`],
    ["between outages", one.between_seconds === null ? "–" : duration(one.between_seconds), "mean time"],
    ["to repair", one.repair_seconds === null ? "–" : duration(one.repair_seconds), "mean time"],
    ["maintenance", share(one.maintenance), "counts neither way"],
    ["not known", share(one.unknown), "nobody saw it"],
  ];
  return (
    <dl className="my-3 grid grid-cols-2 gap-x-6 gap-y-2 font-dense md:grid-cols-6">
      {figures.map(([name, value, note]) => (
        <div key={name}>
          <dt className="text-ink-2 text-sm">{name}</dt>
          <dd className="font-semibold text-xl">{value}</dd>
          <dd className="text-ink-2 text-xs">{note}</dd>
        </div>
      ))}
    </dl>
  );
}

const PERIODS = ["week", "month", "quarter", "year"] as const;

/** What the target leaves in its period, and the way to set one. */
function Target({ one }: { one: Available }) {
  const may = useMay("operator");
  const client = useQueryClient();
  const [editing, setEditing] = useState(false);
  const [percent, setPercent] = useState(one.target ? String(Number((one.target.share * 100).toFixed(5))) : "99.9");
  const [per, setPer] = useState<(typeof PERIODS)[number]>(one.target?.per ?? "month");
  const [error, setError] = useState<unknown>();
  const query = { of: one.of, name: one.name };
  const done = async (change: Promise<unknown>) => {
    try {
      await change;
      setError(undefined);
      setEditing(false);
      await client.invalidateQueries({ queryKey: ["availability"] });
    } catch (problem) {
      setError(problem);
    }
  };
  const left = one.left ?? 0;
  return (
    <section aria-label="Target" className="mb-3">
      <p>
        {one.target ? (
          <>
            Target: <span className="font-semibold">{share(one.target.share)}</span> of each {one.target.per}.{" "}
            {left > 0 ? (
              <>
                Left of this {one.target.per}: <span className="font-semibold">{duration(one.left_seconds ?? 0)}</span>{" "}
                may be down, {share(Math.min(1, left))} of what there was.
              </>
            ) : (
              <span className="font-semibold text-state-critical">
                Missed in this {one.target.per}, by {duration(-(one.left_seconds ?? 0))}.
              </span>
            )}
          </>
        ) : (
          <span className="text-ink-2">No target is set.</span>
        )}{" "}
        {may && !editing && (
          <button type="button" className="link touch" onClick={() => setEditing(true)}>
            {one.target ? "change it" : "set one"}
          </button>
        )}
      </p>
      {editing && (
        <form
          className="mt-1 flex flex-wrap items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            void done(
              got(
                api.PUT("/api/v1/availability/target", {
                  params: { query },
                  body: { share: Number(percent) / 100, per },
                }),
              ),
            );
          }}
        >
          <label>
            <input
              className="input input-sm w-24 text-right"
              inputMode="decimal"
              aria-label="percent up"
              value={percent}
              onChange={(e) => setPercent(e.target.value)}
            />{" "}
            % of each
          </label>
          <select
            className="select select-sm w-28"
            aria-label="period"
            value={per}
            onChange={(e) => setPer(PERIODS.find((p) => p === e.target.value) ?? "month")}
          >
            {PERIODS.map((p) => (
              <option key={p}>{p}</option>
            ))}
          </select>
          <button type="submit" className="btn btn-primary btn-sm" disabled={!(Number(percent) > 0)}>
            Keep
          </button>
          {one.target && (
            <button
              type="button"
              className="btn btn-ghost btn-sm"
              onClick={() => void done(got(api.DELETE("/api/v1/availability/target", { params: { query } })))}
            >
              No target
            </button>
          )}
          <button type="button" className="btn btn-ghost btn-sm" onClick={() => setEditing(false)}>
            Leave it
          </button>
        </form>
      )}
      {error !== undefined && <Failure error={error} />}
    </section>
  );
}

function Outages({ one, end }: { one: Available; end: number }) {
  if (!one.outages.length) return <p className="text-ink-2">No outage in this span, as far as is known.</p>;
  return (
    <table className="w-full max-w-4xl border-collapse font-dense text-sm">
      <caption className="pb-1 text-left font-semibold text-base">Outages, the newest first</caption>
      <thead>
        <tr className="border-base-300 border-b text-left text-ink-2">
          <th scope="col" className="py-1 font-normal">
            from
          </th>
          <th scope="col" className="font-normal">
            to
          </th>
          <th scope="col" className="text-right font-normal">
            for
          </th>
          <th scope="col" className="pl-6 font-normal">
            cause
          </th>
        </tr>
      </thead>
      <tbody>
        {one.outages.map((outage) => (
          <tr key={outage.from} className="border-base-300 border-b align-baseline">
            <td className="whitespace-nowrap py-1 pr-3">{moment(unix(outage.from), end)}</td>
            <td className="whitespace-nowrap pr-3">{outage.to ? moment(unix(outage.to), end) : "goes on"}</td>
            <td className="whitespace-nowrap text-right font-semibold">{duration(outage.seconds)}</td>
            <td className="pl-6">
              {outage.incident ? (
                <Link className="link" to={`/incidents/${outage.incident}`}>
                  incident {outage.incident}
                </Link>
              ) : null}{" "}
              {outage.cause || (outage.incident ? "" : <span className="text-ink-2">no incident was open</span>)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
