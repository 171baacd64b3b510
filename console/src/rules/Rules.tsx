import { Link } from "react-router";
import type { Rule } from "../api/client";
import { withUnit } from "../lib/format";
import { useRules } from "../lib/queries";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";

const GRID =
  "grid grid-cols-[24px_minmax(0,1.2fr)_minmax(0,2fr)_minmax(0,1.6fr)_150px_150px_70px] gap-x-3 items-center";

export function limitText(rule: Rule, severity: "warning" | "critical"): string {
  const limit = rule.limits[severity];
  if (!limit) return "–";
  const bound = limit.above ?? limit.below;
  const hold = limit.hold && limit.hold !== "0s" ? ` for ${limit.hold}` : "";
  return `${limit.above === null || limit.above === undefined ? "<" : ">"} ${withUnit(bound, rule.unit)}${hold}`;
}

export function Component() {
  const rules = useRules();
  const may = useMay("operator");
  if (rules.isError) return <Failure error={rules.error} again={() => void rules.refetch()} />;
  if (!rules.data) return <Waiting what="the rules" lines={9} />;
  return (
    <>
      <div className="mb-2 flex items-center gap-4">
        <h1 className="font-semibold text-xl">Rules</h1>
        {may && (
          <Link className="btn btn-sm" to="/rules/new">
            New rule
          </Link>
        )}
      </div>
      {rules.data.items.length === 0 ? (
        <Empty title="Nothing is watched">Make a rule, or apply some from files: balise rule apply FILE.</Empty>
      ) : (
        <div className="font-dense">
          <div className={`${GRID} border-base-300 border-b pb-1 text-ink-2 text-sm`}>
            <span />
            <span>rule</span>
            <span>about</span>
            <span>metric</span>
            <span>warning</span>
            <span>critical</span>
            <span className="text-right">open</span>
          </div>
          <div className="hairline border-base-300 border-b">
            {rules.data.items.map((rule) => (
              <Link
                key={rule.name}
                to={`/rules/${encodeURIComponent(rule.name)}`}
                className={`${GRID} py-1.5 hover:bg-base-200 ${rule.enabled ? "" : "text-ink-2"}`}
              >
                <Signal
                  state={rule.enabled ? (rule.open_alerts ? "warning" : "ok") : "paused"}
                  size={16}
                  label={rule.enabled ? (rule.open_alerts ? "has open alerts" : "at work") : "switched off"}
                />
                <span className="grow-cell font-semibold">{rule.name}</span>
                <span className="grow-cell">{rule.about}</span>
                <span className="grow-cell text-ink-2">
                  {rule.measure.take} of {rule.measure.metric}
                </span>
                <span className="grow-cell">{limitText(rule, "warning")}</span>
                <span className="grow-cell">{limitText(rule, "critical")}</span>
                <span className="text-right font-semibold">{rule.open_alerts || ""}</span>
              </Link>
            ))}
          </div>
        </div>
      )}
    </>
  );
}
