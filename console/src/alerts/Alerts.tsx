import { Link, useSearchParams } from "react-router";
import type { Alert } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { listPanel } from "../dashboards/pinned";
import { IncidentTabs } from "../incidents/Tabs";
import { duration, moment, plural, STATE, unix, withUnit } from "../lib/format";
import { useAlerts } from "../lib/queries";
import { useSpan, withSpan } from "../lib/useSpan";
import { useWhere } from "../lib/useWhere";
import { FilterField } from "../ui/FilterField";
import { Empty, Failure, Waiting } from "../ui/Note";
import { SavedFilters } from "../ui/SavedFilters";
import { Signal } from "../ui/Signal";

const ATTRIBUTES = ["rule", "state", "acknowledged"];
const GRID =
  "hidden md:grid md:grid-cols-[24px_130px_130px_minmax(0,2fr)_minmax(0,1.4fr)_110px_100px_110px] gap-x-3 items-center";

export function Component() {
  const { span, now } = useSpan();
  const [where, keepWhere] = useWhere();
  const alerts = useAlerts({ ...(where && { where }), start: span.start, end: span.end });
  if (alerts.isError) return <Failure error={alerts.error} again={() => void alerts.refetch()} />;
  if (!alerts.data) return <Waiting what="the alerts" lines={10} />;
  const open = alerts.data.items.filter((a) => a.state === "open");
  const past = alerts.data.items.filter((a) => a.state !== "open");
  open.sort((a, b) => Number(b.severity === "critical") - Number(a.severity === "critical"));
  return (
    <>
      <div className="mb-1 flex flex-wrap items-start gap-3">
        <IncidentTabs />
        <FilterField
          where={where}
          keep={keepWhere}
          placeholder='filter, like: severity eq "critical" and host sw "gate-"'
          found={where ? plural(alerts.data.items.length, "alert") : undefined}
          attributes={ATTRIBUTES}
        />
        <SavedFilters where={where} chosen="" choose={() => undefined} take={keepWhere} />
        <span className="py-1 font-dense text-sm">
          <Pin panel={() => listPanel("alerts", where)} />
        </span>
      </div>
      {alerts.data.items.length === 0 && (
        <Empty title={where ? "No alert of this span passes the filter" : "No alert was open in this span"}>
          Choose a longer span above. What is watched, and with which limits, is under{" "}
          <Link className="link" to="/rules">
            Rules
          </Link>
          .
        </Empty>
      )}
      {open.length > 0 && <Section title={`Open, ${open.length}`} alerts={open} now={now} />}
      {past.length > 0 && <Section title={`Recovered in the span, ${past.length}`} alerts={past} now={now} />}
    </>
  );
}

/** An alert on a telephone: where and since when, below it what and how much. */
function Narrow({ alert: a, now }: { alert: Alert; now: number }) {
  const open = a.state === "open";
  return (
    <span className="grid grid-cols-[24px_minmax(0,1fr)_auto] gap-x-2 md:hidden">
      <Signal
        state={a.silent ? "silent" : open ? a.severity : "ok"}
        size={18}
        label={open ? a.severity : "recovered"}
      />
      <span className="grow-cell font-semibold">
        {a.host || "the fleet"}{" "}
        <span className="font-normal text-ink-2">{Object.values(a.attributes).filter(Boolean).join(" ")}</span>
      </span>
      <span className="text-right">{moment(unix(a.opened_at), now)}</span>
      <span />
      <span className="line-clamp-2">{a.about}</span>
      <span className="text-right text-ink-2">
        {a.unit === STATE ? "" : withUnit(a.worst_value, a.unit)}
        <span className="block text-sm">{a.acknowledged_by ?? (open ? "nobody" : "recovered")}</span>
      </span>
    </span>
  );
}

function Section({ title, alerts, now }: { title: string; alerts: Alert[]; now: number }) {
  const [parameters] = useSearchParams();
  return (
    <section className="mb-5 font-dense" aria-label={title}>
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">{title}</h2>
      <div className={`${GRID} border-base-300 border-b pb-1 text-ink-2 text-sm`}>
        <span />
        <span>opened</span>
        <span>where</span>
        <span>what</span>
        <span>which</span>
        <span className="text-right">worst</span>
        <span className="text-right">lasted</span>
        <span>who has it</span>
      </div>
      <div className="hairline border-base-300 border-b">
        {alerts.map((a) => (
          <Link key={a.id} to={withSpan(`/alerts/${a.id}`, parameters)} className="block py-1.5 hover:bg-base-200">
            <Narrow alert={a} now={now} />
            <span className={GRID}>
              <Signal
                state={a.silent ? "silent" : a.state === "open" ? a.severity : "ok"}
                size={16}
                label={a.state === "open" ? a.severity : "recovered"}
              />
              <span>{moment(unix(a.opened_at), now)}</span>
              <span className="grow-cell font-semibold">{a.host || "the fleet"}</span>
              <span className="grow-cell">{a.about}</span>
              <span className="grow-cell text-ink-2">{Object.values(a.attributes).filter(Boolean).join(" ")}</span>
              <span className="text-right">{a.unit === STATE ? "" : withUnit(a.worst_value, a.unit)}</span>
              <span className="text-right">
                {duration((a.recovered_at ? unix(a.recovered_at) : now) - unix(a.opened_at))}
              </span>
              <span className="grow-cell text-ink-2">{a.acknowledged_by ?? (a.state === "open" ? "nobody" : "")}</span>
            </span>
          </Link>
        ))}
      </div>
    </section>
  );
}
