import { type ReactNode, useState } from "react";

/** A plain table for settings. */
export function Listing({ columns, children }: { columns: string[]; children: ReactNode }) {
  return (
    <div className="relative overflow-x-auto">
      <table className="w-full border-collapse font-dense">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
            {columns.map((c) => (
              <th key={c} scope="col" className="py-1 pr-4 font-normal">
                {c || <span className="sr-only">what can be done</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}

export function Line({ cells, action }: { cells: ReactNode[]; action?: ReactNode }) {
  return (
    <tr className="border-base-300 border-b align-top">
      {cells.map((cell, i) => (
        <td key={i} className="max-w-md break-words py-1.5 pr-4">
          {cell}
        </td>
      ))}
      <td className="py-1 text-right">{action}</td>
    </tr>
  );
}

/** A secret that is shown once, with a button to copy it. */
export function Once({ title, text, done }: { title: string; text: string; done: () => void }) {
  const [copied, setCopied] = useState(false);
  const copy = () => {
    navigator.clipboard
      ?.writeText(text)
      .then(() => setCopied(true))
      .catch(() => setCopied(false));
  };
  return (
    <div className="mb-5 border-primary border-l-4 pl-3" role="status">
      <p>{title}</p>
      <code className="my-1 block select-all break-all bg-base-200 p-2">{text}</code>
      <button type="button" className="btn btn-sm mr-2" onClick={copy}>
        {copied ? "Copied" : "Copy"}
      </button>
      <button type="button" className="btn btn-ghost btn-sm" onClick={done}>
        I have it
      </button>
    </div>
  );
}

/** Takes something away, after a question if there is one. */
export function Remove({
  work,
  done,
  failed,
  question,
  label = "Delete",
}: {
  work: () => Promise<unknown>;
  done: () => Promise<unknown>;
  failed: (why: string) => void;
  question?: string;
  label?: string;
}) {
  return (
    <button
      type="button"
      className="btn btn-ghost btn-xs"
      onClick={() => {
        if (question && !window.confirm(question)) return;
        work()
          .then(done)
          .catch((error: Error) => failed(error.message));
      }}
    >
      {label}
    </button>
  );
}

/** What went wrong; nothing for nothing. */
export function Wrong({ problem }: { problem: string }) {
  if (!problem) return null;
  return (
    <p role="alert" className="text-error">
      {problem}
    </p>
  );
}
