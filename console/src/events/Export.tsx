import { useState } from "react";
import { download } from "../lib/csv";
import { withUnit } from "../lib/format";
import { instant, type Span } from "../lib/span";
import type { Asked } from "./useAsked";

const FORMATS = [
  { value: "csv", name: "CSV", ending: "csv" },
  { value: "jsonl", name: "JSON Lines", ending: "jsonl" },
  { value: "rfc5424", name: "RFC 5424", ending: "log" },
] as const;

/** All that is asked for as a file, part by part, with how far it is. */
export function Export({ asked, span, total }: { asked: Asked; span: Span; total: number | undefined }) {
  const [told, setTold] = useState("");
  const fetchAll = async (format: (typeof FORMATS)[number]) => {
    setTold("begun");
    try {
      const answer = await fetch("/api/v1/events/export", {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify({
          format: format.value,
          text: asked.text || null,
          where: asked.filter || null,
          filter: asked.saved || null,
          from: instant(span.start),
          to: instant(span.end),
        }),
      });
      if (!answer.ok || !answer.body) throw new Error(`the service answered ${answer.status}`);
      const parts: BlobPart[] = [];
      const reader = answer.body.getReader();
      let size = 0;
      for (let part = await reader.read(); !part.done; part = await reader.read()) {
        parts.push(part.value);
        size += part.value.length;
        setTold(`${withUnit(size, "By")} of ${String(total ?? 0)} events`);
      }
      download(`events.${format.ending}`, answer.headers.get("Content-Type") ?? "text/plain", parts);
      setTold(`${withUnit(size, "By")}, whole`);
    } catch (error) {
      setTold(`it was cut off: ${error instanceof Error ? error.message : String(error)}`);
    }
  };
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-sm font-normal">{told ? `Export: ${told}` : "Export"}</summary>
      <div className="dropdown-content z-20 mt-1 w-56 rounded-box border border-base-300 bg-base-100 p-3 text-sm">
        {FORMATS.map((format) => (
          <button
            key={format.value}
            type="button"
            className="touch block w-full py-1 text-left hover:underline"
            onClick={() => void fetchAll(format)}
          >
            {format.name}
          </button>
        ))}
      </div>
    </details>
  );
}
