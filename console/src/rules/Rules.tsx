import { useState } from "react";
import { Link } from "react-router";
import type { Rule } from "../api/client";
import { duration, plural } from "../lib/format";
import { useRulesOver } from "../lib/queries";
import { limitWords, measureText, WATCHES, watches } from "../lib/ruleWords";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";

const GRID =
  "grid grid-cols-[24px_minmax(0,1.2fr)_minmax(0,2fr)_minmax(0,1.3fr)_minmax(0,1.3fr)_minmax(0,1.5fr)] gap-x-3 items-center";

/** What names of metrics are about, by what they begin with. */
const SUBJECTS: [RegExp, string][] = [
  [/cpu|load/, "Processors"],
  [/memory|paging/, "Memory"],
  [/filesystem|disk|smart|nfs/, "Disks and volumes"],
  [/network/, "Network"],
  [/host\.|clock|uptime|agent/, "Hosts"],
  [/process|unit|container/, "Processes and units"],
  [/certificate|probe/, "Probes and certificates"],
  [/sign_in/, "Sign-ins"],
  [/receiver/, "Events"],
  [/^balise\.service|^http\./, "Services"],
];

function subject(rule: Rule): string {
  const kind = watches(rule.measure);
  if (kind !== "metric") return WATCHES[kind];
  const metric = rule.measure.metric ?? "";
  const known = /^(system|balise|process|container|http|probe)\./.test(metric)
    ? SUBJECTS.find(([pattern]) => pattern.test(metric))?.[1]
    : undefined;
  return known ?? metric.split(".")[0] ?? "";
}

/** Those that opened most often, and that nobody took, first. */
const byNoise = (a: Rule, b: Rule) => b.opened - a.opened || b.untaken - a.untaken || a.name.localeCompare(b.name);

export function Component() {
  const { span } = useSpan();
  const rules = useRulesOver(span);
  const may = useMay("operator");
  const [noisy, setNoisy] = useState(false);
  if (rules.isError) return <Failure error={rules.error} again={() => void rules.refetch()} />;
  if (!rules.data) return <Waiting what="the rules" lines={9} />;
  const items = rules.data.items;
  const opened = items.reduce((sum, rule) => sum + rule.opened, 0);
  const groups = noisy
    ? [["", [...items].sort(byNoise)] as const]
    : [...new Set(items.map(subject))].sort().map((name) => [name, items.filter((r) => subject(r) === name)] as const);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-4">
        <h1 className="font-semibold text-xl">Rules</h1>
        {may && (
          <Link className="btn btn-sm" to="/rules/new">
            New rule
          </Link>
        )}
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={noisy}
            onChange={(e) => setNoisy(e.target.checked)}
          />
          noisy ones first
        </label>
        <span className="text-ink-2 text-sm">
          {plural(items.length, "rule")}, opened {plural(opened, "time")} in the span
        </span>
      </div>
      {items.length === 0 ? (
        <Empty title="Nothing is watched">Make a rule, or apply some from files: balise rule apply FILE.</Empty>
      ) : (
        <div className="font-dense">
          <div className={`${GRID} border-base-300 border-b pb-1 text-ink-2 text-sm`}>
            <span />
            <span>rule</span>
            <span>about</span>
            <span>warning</span>
            <span>critical</span>
            <span>in the span</span>
          </div>
          {groups.map(([name, mine]) => (
            <section key={name} aria-label={name || "all rules"}>
              {name && <h2 className="mt-2 font-semibold text-ink-2 text-sm">{name}</h2>}
              <div className="hairline border-base-300 border-b">
                {mine.map((rule) => (
                  <Row key={rule.name} rule={rule} />
                ))}
              </div>
            </section>
          ))}
        </div>
      )}
    </>
  );
}

function Row({ rule }: { rule: Rule }) {
  // That nobody sends yet what a rule from the box watches is no news.
  const note = rule.problem || (rule.shipped ? "" : rule.warnings?.join("; ")) || rule.learning;
  return (
    <Link
      to={`/rules/${encodeURIComponent(rule.name)}`}
      className={`${GRID} py-1 hover:bg-base-200 ${rule.enabled ? "" : "text-ink-2"}`}
    >
      <Signal
        state={rule.enabled ? (rule.open_alerts ? "warning" : "ok") : "paused"}
        size={16}
        label={rule.enabled ? (rule.open_alerts ? "has open alerts" : "at work") : "switched off"}
      />
      <span className="grow-cell font-semibold">{rule.name}</span>
      <span className="min-w-0">
        <span className="block truncate" title={measureText(rule.measure)}>
          {rule.about}
        </span>
        {note && <span className={`block text-sm ${rule.problem ? "text-error" : "text-ink-2"}`}>{note}</span>}
      </span>
      <span className="grow-cell">{limitWords(rule.limits.warning, rule.unit)}</span>
      <span className="grow-cell">{limitWords(rule.limits.critical, rule.unit)}</span>
      <span className="min-w-0 text-ink-2">
        {rule.open_alerts > 0 && <span className="font-semibold text-base-content">{rule.open_alerts} open · </span>}
        {rule.opened > 0
          ? `${plural(rule.opened, "time")}, ${duration(rule.open_seconds)}`
          : rule.open_alerts > 0
            ? "none new"
            : "quiet"}
        {rule.opened > 0 && rule.untaken > 0 && (
          <span className="block text-sm">
            {rule.untaken === rule.opened ? "nobody" : `${rule.untaken} times nobody`} took it
          </span>
        )}
      </span>
    </Link>
  );
}
