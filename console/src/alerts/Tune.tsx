import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type AlertDetail, api, got, type Schemas } from "../api/client";
import { duration, plural } from "../lib/format";
import { kindOf, limitOf, SAYS, SEVERITIES } from "../lib/ruleForm";
import { useMay } from "../signin/session";
import { Failure } from "../ui/Note";

type Whom = Schemas["Tune"]["for"];
const WHOM: [Whom, string][] = [
  ["host", "this host"],
  ["group", "its group"],
  ["all", "everybody"],
];
const UNTIL: [string, string][] = [
  ["", "for good"],
  ["+4h", "for 4 hours"],
  ["+1d", "for a day"],
  ["+7d", "for a week"],
];

const text = (value: unknown): string =>
  value === null || value === undefined ? "" : Array.isArray(value) ? value.join(" to ") : String(value);

/** Other limits for this host, its group or everybody; what that would have changed is said before it is kept. */
export function Tune({ alert }: { alert: AlertDetail }) {
  const may = useMay("operator");
  const [open, setOpen] = useState(false);
  // What holds for the host now, by plans, is what is changed.
  const watched = useQuery({
    queryKey: ["hosts", "rules", alert.host],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/rules", { params: { path: { name: alert.host } } })),
    enabled: open && alert.host !== "",
    retry: false,
  });
  if (!may) return null;
  if (!open || (alert.host && watched.isPending)) {
    return (
      <button type="button" className="btn btn-sm" disabled={open} onClick={() => setOpen(true)}>
        Other limits …
      </button>
    );
  }
  const held = watched.data?.items.find((one) => one.rule === alert.rule)?.limits ?? alert.limits;
  return <Limits alert={alert} limits={held as Schemas["Rule"]["limits"]} close={() => setOpen(false)} />;
}

function Limits({
  alert,
  limits,
  close,
}: {
  alert: AlertDetail;
  limits: Schemas["Rule"]["limits"];
  close: () => void;
}) {
  const client = useQueryClient();
  const kind = kindOf(limits.warning ?? limits.critical);
  const start = (severity: "warning" | "critical") => text(limits[severity]?.[alert.kind]);
  const [whom, setWhom] = useState<Whom>("host");
  const [until, setUntil] = useState("");
  const [off, setOff] = useState(false);
  const [why, setWhy] = useState("");
  const [said, setSaid] = useState({ warning: start("warning"), critical: start("critical") });
  const [told, setTold] = useState<Schemas["Tuned"]>();
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const send = (dry: boolean) => {
    setBusy(true);
    setError(undefined);
    const changed = Object.fromEntries(
      SEVERITIES.filter((s) => said[s].trim() && said[s] !== start(s)).map((s) => [
        s,
        limitOf(kind, said[s], limits[s]),
      ]),
    );
    const body: Schemas["Tune"] = {
      for: whom,
      limits: off ? null : (changed as Schemas["Tune"]["limits"]),
      until: until || null,
      why,
      dry_run: dry,
    };
    got(api.POST("/api/v1/alerts/{number}/tune", { params: { path: { number: alert.id } }, body }))
      .then((answer) => {
        setTold(answer);
        if (!dry) void client.invalidateQueries();
      })
      .catch(setError)
      .finally(() => setBusy(false));
  };
  const change =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      set(value);
      setTold(undefined);
    };
  return (
    <section aria-label="Other limits" className="space-y-2 rounded border border-base-300 p-3">
      <h2 className="font-semibold">Other limits for …</h2>
      <div className="flex flex-wrap gap-2">
        <Choice label="Whom" options={WHOM} value={whom} put={change((v) => setWhom(v as Whom))} />
        {whom !== "all" && <Choice label="How long" options={UNTIL} value={until} put={change(setUntil)} />}
      </div>
      {whom !== "all" && (
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={off}
            onChange={(e) => change(setOff)(e.target.checked)}
          />
          the rule is off meanwhile
        </label>
      )}
      {!off &&
        SEVERITIES.filter((s) => limits[s]).map((severity) => (
          <label key={severity} className="flex items-center gap-2 text-sm">
            <span className="w-32">
              {severity} {SAYS[kind].label}
            </span>
            <input
              className="input input-sm w-32"
              value={said[severity]}
              onChange={(e) => change(setSaid)({ ...said, [severity]: e.target.value })}
            />
          </label>
        ))}
      <label className="flex flex-col gap-1 text-sm">
        Why
        <input className="input input-sm w-full" value={why} onChange={(e) => change(setWhy)(e.target.value)} />
      </label>
      <div className="flex gap-2">
        <button type="button" className="btn btn-sm" disabled={busy || !why.trim()} onClick={() => send(true)}>
          {busy ? "looking …" : "What would it change?"}
        </button>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !told || told.done}
          onClick={() => send(false)}
        >
          Do it
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={close}>
          Close
        </button>
      </div>
      {error !== undefined && <Failure error={error} />}
      {told && <Told told={told} />}
    </section>
  );
}

function Told({ told }: { told: Schemas["Tuned"] }) {
  return (
    <div role="status" className="font-dense text-sm">
      <p>
        {told.done ? "Done: " : ""}
        {told.before} → <span className="font-semibold">{told.after}</span>, for {plural(told.hosts, "host")}
        {told.plan && (
          <>
            , in the plan{" "}
            {told.done ? (
              <Link className="link" to={`/settings/plans?plan=${encodeURIComponent(told.plan)}`}>
                {told.plan}
              </Link>
            ) : (
              told.plan
            )}
          </>
        )}
        .
      </p>
      {told.over.map((one) => (
        <p key={one.days} className="text-ink-2">
          Over {one.days} days:{" "}
          {one.known && (
            <>
              opened {plural(one.opened, "time")} ({duration(one.open_seconds)}), would have{" "}
              <span className="font-semibold text-base-content">{plural(one.would_open, "time")}</span> (
              {duration(one.would_be_open_seconds)})
            </>
          )}
          {one.note && <span className="block text-xs">{one.note}</span>}
        </p>
      ))}
    </div>
  );
}

function Choice({
  label,
  options,
  value,
  put,
}: {
  label: string;
  options: [string, string][];
  value: string;
  put: (value: string) => void;
}) {
  return (
    <select aria-label={label} className="select select-sm w-36" value={value} onChange={(e) => put(e.target.value)}>
      {options.map(([one, name]) => (
        <option key={one} value={one}>
          {name}
        </option>
      ))}
    </select>
  );
}
