import type { components } from "../api/schema";
import { isWord, mended } from "../lib/filterText";

/** Under a filter: what it says in English, or where its slip is and what could stand there. */
export function FilterTold({
  id,
  value,
  told,
  type,
  found,
}: {
  id: string;
  value: string;
  told: components["schemas"]["FilterExplained"] | undefined;
  type: (text: string) => void;
  /** How much passes it, in words. */
  found?: string | undefined;
}) {
  const problem = told?.problem;
  // What is typed may begin with spaces that are not asked.
  const shift = value.length - value.trimStart().length;
  return (
    <div id={id} className="mt-1 min-h-5 text-sm">
      {problem && (
        <p role="alert" className="flex flex-wrap items-center gap-x-2 text-state-warning">
          <span>{problem.message}</span>
          {problem.expected.filter(isWord).map((choice) => (
            <button
              key={choice}
              type="button"
              className="btn btn-xs font-dense font-normal"
              aria-label={`Put ${choice} at character ${problem.at + shift}`}
              onClick={() => type(mended(value, problem.at + shift, choice))}
            >
              {choice}
            </button>
          ))}
        </p>
      )}
      {!problem && told?.sentence && (
        <p className="text-ink-2">
          {told.sentence}
          {found && <span className="text-base-content"> · {found}</span>}
        </p>
      )}
    </div>
  );
}
