import type { MetricAnswer, Rule } from "../api/client";
import { plural } from "../lib/format";
import { type Usual, useRules } from "../lib/queries";
import { lanesOf, type Question, TAKES } from "../lib/question";
import type { Bound } from "../ui/LaneLines";
import { LaneRow } from "../ui/Lanes";
import { ChartLane, type Drawing, nameOf, namesOf, scaleOf } from "./ChartLane";

/** The lanes of one question, with what it stands beside. */
export function Answered({
  question,
  answer,
  beside,
  besideName,
  usual,
  together,
  drawing,
  colour,
}: {
  question: Question;
  answer: MetricAnswer | undefined;
  beside: MetricAnswer | undefined;
  besideName: string;
  usual: Map<string, Usual> | never[];
  together: boolean;
  drawing: Drawing;
  colour: number;
}) {
  const rules = useRules();
  if (!answer || answer.problem || !answer.series.length) {
    const why = answer?.problem || "nothing passes this filter: leave some of it out";
    return (
      <LaneRow name={question.metric} shows="no lines" height={32}>
        <p className="truncate py-1 text-ink-2 text-sm" title={why}>
          {why.split(" Did you mean")[0]}
        </p>
      </LaneRow>
    );
  }
  const bounds = boundsOf(rules.data?.items ?? [], question);
  const lanes = lanesOf(answer.series.length, together || drawing.stack);
  const bands = usual instanceof Map ? usual : new Map<string, Usual>();
  const names = namesOf(answer.series);
  const scale = scaleOf(answer, lanes, beside, [...bands.values()], bounds, drawing);
  return (
    <>
      {lanes.map((which) => {
        const one = which.length === 1 ? answer.series[which[0] as number] : undefined;
        const name = one ? (names[which[0] as number] ?? "") : question.metric;
        return (
          <ChartLane
            key={which.join()}
            answer={answer}
            which={which}
            names={names}
            name={name === "all together" ? question.metric : name}
            label={`${one ? name : among(which, names)}, ${TAKES.find(([take]) => take === question.take)?.[1]} of ${question.metric}`}
            shows={
              one && name !== "all together"
                ? question.metric
                : `${which.length} of ${answer.series.length + answer.left_out}`
            }
            beside={beside}
            besideName={besideName}
            usual={one ? bands.get(nameOf(one.attributes)) : undefined}
            bounds={bounds}
            stack={drawing.stack}
            scale={scale}
            height={lanes.length > 6 ? 56 : which.length > 1 ? 130 : 80}
            colour={which.length > 1 ? 0 : colour}
          />
        );
      })}
      {answer.left_out > 0 && (
        <p className="py-1 font-dense text-ink-2 text-sm">
          {plural(answer.left_out, "more series", "more series")} of lower values: narrow the filter to see them
        </p>
      )}
    </>
  );
}

/** What tells lanes apart that share a name: the first and the last of their lines. */
function among(which: number[], names: string[]): string {
  return [...new Set([which[0], which.at(-1)])].map((i) => names[i ?? 0]).join(" to ");
}

/** The limits of the rules that watch a metric, as lines. */
export function boundsOf(rules: Rule[], question: Question): Bound[] {
  const watching = rules.filter((rule) => rule.enabled && rule.measure.metric === question.metric);
  const found: Bound[] = [];
  for (const { limits } of watching) {
    for (const severity of ["warning", "critical"] as const) {
      const limit = limits[severity];
      const value = limit?.above ?? limit?.below;
      if (typeof value === "number" && !found.some((b) => b.severity === severity)) found.push({ severity, value });
    }
  }
  return found;
}
