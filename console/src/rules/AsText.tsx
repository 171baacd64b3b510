import { useEffect } from "react";
import { api, got, type Schemas } from "../api/client";
import { useMay } from "../signin/session";

export type RuleDocument = Schemas["Rehearse"]["rule"];

/** What is typed of a rule, the rule when it can be read, and what is wrong with it. */
export interface Typed {
  text: string;
  /** Whether the rest is of this very text. */
  isRead: boolean;
  rule: RuleDocument | undefined;
  problems: Schemas["DocumentProblem"][];
}

const SETTLED_MS = 400;

/** The rule as a file has it, to be read, copied and typed. Each slip is told with its place. */
export function AsText({ typed, change }: { typed: Typed; change: (typed: Typed) => void }) {
  const may = useMay("operator");
  const { text, isRead } = typed;
  useEffect(() => {
    if (isRead) return;
    let gone = false;
    const timer = setTimeout(() => {
      got(api.POST("/api/v1/rules/read", { body: { text } }))
        .then((read) => {
          if (gone) return;
          const rule = read.problems.length === 0 && read.rule ? (read.rule as RuleDocument) : undefined;
          change({ text, isRead: true, rule, problems: read.problems });
        })
        .catch((error: Error) => {
          const problems = [{ line: 1, column: 1, field: "", detail: error.message }];
          if (!gone) change({ text, isRead: true, rule: undefined, problems });
        });
    }, SETTLED_MS);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [text, isRead, change]);
  return (
    <div className="mb-3">
      <ul id="slips" className="mb-1 text-error text-sm" aria-live="polite">
        {typed.problems.map((slip) => (
          <li key={`${slip.line} ${slip.column} ${slip.detail}`}>
            line {slip.line}, column {slip.column}: {slip.detail}
          </li>
        ))}
      </ul>
      <textarea
        aria-label="The rule as text, in YAML"
        aria-invalid={typed.problems.length > 0}
        aria-describedby="slips"
        className="textarea w-full font-mono text-sm"
        rows={Math.min(34, Math.max(12, text.split("\n").length + 1))}
        spellCheck={false}
        readOnly={!may}
        value={text}
        onChange={(e) => change({ text: e.target.value, isRead: false, rule: undefined, problems: typed.problems })}
      />
    </div>
  );
}
