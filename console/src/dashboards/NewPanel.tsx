import { useState } from "react";
import { readQuestion } from "../lib/question";
import type { Panel } from "../lib/sheet";

const KINDS = [
  { kind: "chart", name: "a chart", asks: 'avg of balise.cpu.busy by host where site eq "$site"' },
  { kind: "value", name: "a value", asks: "max of system.filesystem.utilization" },
  { kind: "states", name: "a roll-up", asks: "by: site, group, application or label.NAME" },
  { kind: "table", name: "a table of hosts", asks: "a filter of hosts" },
  { kind: "incidents", name: "open incidents", asks: "a filter" },
  { kind: "alerts", name: "open alerts", asks: "a filter" },
  { kind: "events", name: "events", asks: "a filter" },
  { kind: "patterns", name: "log patterns", asks: "a filter" },
  { kind: "text", name: "a text", asks: "what it says" },
] as const;
type Kind = (typeof KINDS)[number]["kind"];

/** The panel that is meant; or what has to be written for it. */
export function panelOf(kind: Kind, title: string, said: string): Panel | string {
  const at = kind === "value" ? [0, 0, 4, 3] : kind === "chart" || kind === "table" ? [0, 0, 12, 6] : [0, 0, 6, 5];
  const where = said || null;
  switch (kind) {
    case "chart":
    case "value": {
      const asked = readQuestion(said);
      if (!asked) return "ask like: avg of balise.cpu.busy by host";
      const query = { metric: asked.metric, take: asked.take, by: asked.by, where: asked.where || null };
      if (kind === "value") return { kind, title: title || asked.metric, at, query } as Panel;
      return { kind, title: title || asked.metric, at, query: { queries: [query] } } as Panel;
    }
    case "states":
      return { kind, title, at, query: { by: said || "site" } } as Panel;
    case "text":
      return said ? ({ kind, title, at, query: { text: said } } as Panel) : "write what it says";
    case "table":
      return {
        kind,
        title,
        at,
        query: {
          where,
          limit: 10,
          sort: [{ by: "state" }],
          columns: [{ metric: "balise.cpu.busy" }, { count: "alerts" }],
        },
      } as Panel;
    default:
      return { kind, title, at, query: { where } } as Panel;
  }
}

/** Adds a panel of any kind. */
export function NewPanel({ add }: { add: (panel: Panel) => void }) {
  const [kind, setKind] = useState<Kind>("value");
  const [title, setTitle] = useState("");
  const [said, setSaid] = useState("");
  const [problem, setProblem] = useState("");
  const asks = KINDS.find((one) => one.kind === kind)?.asks ?? "";
  return (
    <form
      className="mt-3 flex flex-wrap items-center gap-2"
      aria-label="Another panel"
      onSubmit={(e) => {
        e.preventDefault();
        const made = panelOf(kind, title.trim(), said.trim());
        if (typeof made === "string") {
          setProblem(made);
          return;
        }
        setProblem("");
        setTitle("");
        setSaid("");
        add(made);
      }}
    >
      Add
      <select
        className="select select-sm w-40"
        aria-label="Kind of panel"
        value={kind}
        onChange={(e) => setKind(KINDS.find((one) => one.kind === e.target.value)?.kind ?? "value")}
      >
        {KINDS.map((one) => (
          <option key={one.kind} value={one.kind}>
            {one.name}
          </option>
        ))}
      </select>
      <input
        className="input input-sm min-w-56 grow"
        aria-label="What it shows"
        placeholder={asks}
        value={said}
        onChange={(e) => setSaid(e.target.value)}
      />
      <input
        className="input input-sm w-44"
        aria-label="Its title"
        placeholder="title"
        value={title}
        onChange={(e) => setTitle(e.target.value)}
      />
      <button type="submit" className="btn btn-sm">
        Add it
      </button>
      {problem && (
        <span role="alert" className="text-error">
          {problem}
        </span>
      )}
    </form>
  );
}
