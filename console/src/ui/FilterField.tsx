import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { api, got } from "../api/client";
import { isWord, mended } from "../lib/filterText";

const SETTLED_MS = 400;

/**
 * A filter that is typed: under it what it says in English, or where its slip is and what could stand there.
 * One with a slip is not kept: what is shown stays as it was.
 */
export function FilterField({
  where,
  keep,
  placeholder,
  found,
}: {
  where: string;
  keep: (where: string) => void;
  placeholder: string;
  /** How much passes it, in words. */
  found?: string;
}) {
  const id = useId();
  const [value, setValue] = useState(where);
  const [asked, setAsked] = useState(where.trim());
  // What comes from elsewhere, a click or the address, is shown; only what was typed here is kept.
  const [typing, setTyping] = useState(false);
  const type = (text: string) => {
    setValue(text);
    setTyping(true);
  };
  useEffect(() => {
    setValue(where);
    setAsked(where.trim());
    setTyping(false);
  }, [where]);
  useEffect(() => {
    const timer = setTimeout(() => setAsked(value.trim()), SETTLED_MS);
    return () => clearTimeout(timer);
  }, [value]);
  const answer = useQuery({
    queryKey: ["explained", asked],
    queryFn: () => got(api.POST("/api/v1/filters/explain", { body: { where: asked } })),
    enabled: asked !== "",
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  }).data;
  const told = answer?.where === asked ? answer : undefined;
  const settled = asked === value.trim() && (asked === "" || (told !== undefined && !told.problem));
  useEffect(() => {
    if (typing && settled && asked !== where.trim()) keep(asked);
  }, [typing, settled, asked, where, keep]);
  const problem = asked ? told?.problem : undefined;
  // What is typed may begin with spaces that are not asked.
  const shift = value.length - value.trimStart().length;
  return (
    <div className="w-full min-w-0 md:w-0 md:min-w-72 md:grow">
      <label>
        <span className="sr-only">Filter</span>
        <input
          className={`input input-sm w-full font-dense ${problem ? "input-error" : ""}`}
          placeholder={placeholder}
          spellCheck={false}
          aria-invalid={Boolean(problem)}
          aria-describedby={id}
          value={value}
          onChange={(e) => type(e.target.value)}
        />
      </label>
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
        {!problem && asked && told?.sentence && (
          <p className="text-ink-2">
            {told.sentence}
            {found && <span className="text-base-content"> · {found}</span>}
          </p>
        )}
      </div>
    </div>
  );
}
