import { useEffect } from "react";
import type { Schemas } from "../api/client";

/** What is typed of a document, the document when it can be read, and what is wrong with it. */
export interface Typed<D> {
  text: string;
  /** Whether the rest is of this very text. */
  isRead: boolean;
  document: D | undefined;
  problems: Schemas["DocumentProblem"][];
}

const SETTLED_MS = 400;

/** A document as a file has it, to be read, copied and typed. Each slip is told with its place. */
export function AsText<D>(props: {
  typed: Typed<D>;
  change: (typed: Typed<D>) => void;
  /** Reads a text in the service. Has to be the same function at every call. */
  read: (text: string) => Promise<Pick<Typed<D>, "document" | "problems">>;
  label: string;
  readOnly: boolean;
}) {
  const { typed, change, read } = props;
  const { text, isRead } = typed;
  useEffect(() => {
    if (isRead) return;
    let gone = false;
    const timer = setTimeout(() => {
      read(text)
        .then((found) => {
          if (!gone) change({ text, isRead: true, ...found });
        })
        .catch((error: Error) => {
          const problems = [{ line: 1, column: 1, field: "", detail: error.message }];
          if (!gone) change({ text, isRead: true, document: undefined, problems });
        });
    }, SETTLED_MS);
    return () => {
      gone = true;
      clearTimeout(timer);
    };
  }, [text, isRead, change, read]);
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
        aria-label={props.label}
        aria-invalid={typed.problems.length > 0}
        aria-describedby="slips"
        className="textarea w-full font-mono text-sm"
        rows={Math.min(34, Math.max(12, text.split("\n").length + 1))}
        spellCheck={false}
        readOnly={props.readOnly}
        value={text}
        onChange={(e) => change({ text: e.target.value, isRead: false, document: undefined, problems: typed.problems })}
      />
    </div>
  );
}
