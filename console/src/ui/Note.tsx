import type { ReactNode } from "react";
import { useEffect, useState } from "react";

/** An empty list that says what to do next. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="py-8 text-ink-2">
      <p className="font-semibold text-base-content">{title}</p>
      {children && <div className="mt-1 max-w-prose">{children}</div>}
    </div>
  );
}

/** What went wrong, and what to do. */
export function Failure({ error, again }: { error: unknown; again?: () => void }) {
  const text = error instanceof Error ? error.message : "Something went wrong.";
  return (
    <div role="alert" className="my-3 border-l-4 border-error py-1 pl-3">
      <p>{text}</p>
      {again && (
        <button type="button" className="btn btn-sm mt-2" onClick={again}>
          Try again
        </button>
      )}
    </div>
  );
}

/** The shape of what is coming; after two seconds it says what it waits for. */
export function Waiting({ what, lines = 4 }: { what: string; lines?: number }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 2000);
    return () => clearTimeout(timer);
  }, []);
  return (
    <div aria-busy="true" className="py-2">
      {Array.from({ length: lines }, (_, i) => (
        <div key={i} className="my-2 h-5 rounded bg-base-200" style={{ width: `${96 - (i % 3) * 11}%` }} />
      ))}
      <p className="text-ink-2 text-sm" role="status">
        {late ? `Waiting for ${what} …` : ""}
      </p>
    </div>
  );
}
