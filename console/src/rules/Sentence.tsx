import type { Metric } from "../api/client";
import {
  COUNT_WORDS,
  KIND_WORDS,
  type Kind,
  limitPlace,
  type RuleForm,
  SAYS,
  SEVERITIES,
  TAKE_WORDS,
  unitHint,
} from "../lib/ruleForm";
import { InlineChoice, InlineText } from "../ui/Inline";
import { Signal } from "../ui/Signal";

/** The rule as one sentence, each part of which can be changed where it stands. */
export function Sentence({ form, metric }: { form: RuleForm; metric: Metric | undefined }) {
  const kind = form.kind as Kind;
  const timeless = kind === "missing" || kind === "first seen";
  return (
    <fieldset className="mb-4 text-lg leading-10">
      <legend className="sr-only">The rule as a sentence</legend>
      Warn when {timeless ? <Heard form={form} /> : <Measured form={form} />}
      {!timeless && (
        <>
          {" "}
          over <InlineText name="over" label="Over" place="measure.over" />
        </>
      )}
      , for each <InlineText name="each" label="One alert for each" place="measure.each" placeholder="host" />,{" "}
      <InlineChoice name="kind" label="Kind of limit" options={KIND_WORDS} />{" "}
      {kind === "unusual" && (
        <>
          at least <InlineText name="by" label="At least by" placeholder="0" />{" "}
          <InlineChoice name="side" label="Side" options={SIDES} /> what is usual at this hour of the week, in
          deviations:{" "}
        </>
      )}
      {kind === "runs out" && (
        <>
          <InlineText name="at" label="Reaches" placeholder="1" /> within{" "}
        </>
      )}
      {kind === "first seen" && (
        <>
          , and was not for <InlineText name="memory" label="Not seen for" />:{" "}
        </>
      )}
      {SEVERITIES.map((severity, i) => (
        <span key={severity} className="whitespace-normal">
          {i > 0 && "; "}
          <Signal state={severity} size={15} label={false} /> {severity}{" "}
          {kind === "first seen" ? (
            <InlineChoice name={severity} label={severity} place={limitPlace(severity, "")} options={YES} />
          ) : (
            <InlineText name={severity} label={severity} place={limitPlace(severity, "")} placeholder="no limit" />
          )}
          {form[severity].trim() && kind !== "first seen" && (
            <>
              {" "}
              for{" "}
              <InlineText name={`${severity}Hold`} label={`${severity} hold`} place={limitPlace(severity, "Hold")} />
            </>
          )}
        </span>
      ))}
      .
      <span className="text-ink-2 text-sm">
        {" "}
        {SAYS[kind].hint}
        {(kind === "above" || kind === "below" || kind === "outside") && unitHint(metric)}
      </span>
    </fieldset>
  );
}

const SIDES = [
  ["above", "above"],
  ["below", "below"],
  ["both", "above or below"],
] as const;
const YES = [
  ["", "no"],
  ["yes", "yes"],
] as const;

/** What is heard or not, which has no number. */
function Heard({ form }: { form: RuleForm }) {
  if (form.measures !== "metric") return <>an event of those below</>;
  return <InlineText name="metric" label="Metric" place="measure.metric" list="metrics" placeholder="a metric" />;
}

function Measured({ form }: { form: RuleForm }) {
  switch (form.measures) {
    case "values":
      return <InlineText name="compute" label="Put together" place="measure.compute" placeholder="100 * bad / all" />;
    case "events":
      return (
        <>
          <InlineChoice name="count" label="Count" options={COUNT_WORDS} />
          {form.count === "different" && (
            <>
              {" "}
              <InlineText name="of" label="Different what" place="measure.of" placeholder="user.name" /> in events
            </>
          )}
        </>
      );
    case "alerts":
      return <>the number of open alerts</>;
    default:
      return (
        <>
          the <InlineChoice name="take" label="Take" place="measure.take" options={TAKE_WORDS} /> of{" "}
          <InlineText name="metric" label="Metric" place="measure.metric" list="metrics" placeholder="a metric" />
        </>
      );
  }
}
