import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { plural } from "../lib/format";
import { type RuleForm, ruleOf } from "../lib/ruleForm";
import { limitWords } from "../lib/ruleWords";
import { Failure } from "../ui/Note";
import type { Form } from "../ui/useForm";

/** Limits that would have opened seldom enough, by what was measured; taken with one click. */
export function Suggested({ form, days }: { form: Form<RuleForm>; days: string }) {
  const [most, setMost] = useState(2);
  const [found, setFound] = useState<Schemas["Suggestion"]>();
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const kind = form.values.kind;
  if (kind !== "above" && kind !== "below" && kind !== "unusual") return null;
  const ask = () => {
    setBusy(true);
    setError(undefined);
    const from = days === "-3h" || days === "-24h" ? "-14d" : days;
    got(
      api.POST("/api/v1/rules/suggest", { body: { rule: ruleOf(form.values), from, to: "now", at_most_a_week: most } }),
    )
      .then(setFound)
      .catch(setError)
      .finally(() => setBusy(false));
  };
  const take = () => {
    for (const severity of ["warning", "critical"] as const) {
      const value = found?.[severity]?.[kind];
      form.set({ [severity]: value === null || value === undefined ? "" : String(value) });
    }
  };
  return (
    <section>
      <div className="flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">Suggested limits</h2>
        <label className="flex items-center gap-1 text-sm">
          at most
          <input
            className="input input-xs w-14"
            type="number"
            min={0.1}
            max={1000}
            step="any"
            value={most}
            onChange={(e) => setMost(Number(e.target.value))}
          />
          alerts a week
        </label>
        <button type="button" className="btn btn-xs" onClick={ask} disabled={busy || !(most > 0)}>
          {busy ? "looking …" : "Suggest"}
        </button>
      </div>
      {error !== undefined && <Failure error={error} />}
      {found && (
        <p className="mt-1 font-dense text-sm">
          Warning {limitWords(found.warning, found.unit)}
          {found.critical && `, critical ${limitWords(found.critical, found.unit)}`}:{" "}
          {plural(found.would_open, "alert")} in the span; what opens it stands {clearly(found.separates)}.{" "}
          <button type="button" className="link" onClick={take}>
            Take these
          </button>
        </p>
      )}
    </section>
  );
}

function clearly(separates: number): string {
  if (separates > 0.5) return "clearly above the rest";
  return separates > 0.1 ? "a little above the rest" : "hardly above the rest: they are a matter of luck";
}
