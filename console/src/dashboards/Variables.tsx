import { useState } from "react";
import type { Schemas } from "../api/client";

type Variable = Schemas["Variable"];
const OF = ["host", "group", "site", "application"];

/** What is chosen at the top of a dashboard: each stands as $NAME in the filters of its panels. */
export function Variables({ variables, keep }: { variables: Variable[]; keep: (variables: Variable[]) => void }) {
  const [of, setOf] = useState("site");
  const [metric, setMetric] = useState("");
  const name = of.replace(/[^a-z0-9]+/g, "_").replace(/^[^a-z]+/, "") || "value";
  const ofSeries = !OF.includes(of) && !of.startsWith("label.");
  return (
    <section aria-label="Variables" className="mb-3">
      <p className="text-ink-2">
        Chosen at the top
        {!variables.length && ': nothing yet. A variable stands in filters of panels, like site eq "$site"'}
      </p>
      <ul>
        {variables.map((one) => (
          <li key={one.name} className="flex items-baseline gap-3">
            <span className="font-semibold">${one.name}</span>
            <span className="text-ink-2">
              {one.of}
              {one.metric && ` of ${one.metric}`}
              {one.where && ` where ${one.where}`}
            </span>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Take the variable ${one.name} away`}
              onClick={() => keep(variables.filter((held) => held.name !== one.name))}
            >
              take away
            </button>
          </li>
        ))}
      </ul>
      <form
        className="mt-1 flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          const made: Variable = { name, of, default: [] };
          if (ofSeries && metric.trim()) made.metric = metric.trim();
          keep([...variables.filter((held) => held.name !== name), made]);
        }}
      >
        <input
          className="input input-sm w-44"
          aria-label="What a new variable chooses"
          list="variables-of"
          value={of}
          onChange={(e) => setOf(e.target.value.trim())}
        />
        <datalist id="variables-of">
          {[...OF, "label.role"].map((one) => (
            <option key={one} value={one} />
          ))}
        </datalist>
        {ofSeries && (
          <input
            className="input input-sm w-64"
            aria-label="Of which metric"
            placeholder="of the metric"
            value={metric}
            onChange={(e) => setMetric(e.target.value)}
          />
        )}
        <button type="submit" className="btn btn-sm" disabled={!of}>
          Add ${name}
        </button>
      </form>
    </section>
  );
}
