import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { TAKES, type Take } from "../lib/question";
import { columnText, readColumn } from "./columns";

const OVERS = ["5m", "15m", "1h", "6h", "1d", "7d"];

/** Makes a column of any metric, label, fact or count, by choosing or by its text. */
export function NewColumn({ add, labels }: { add: (key: string) => void; labels: string[] }) {
  const [what, setWhat] = useState("");
  const [take, setTake] = useState<Take>("avg");
  const [over, setOver] = useState("5m");
  const [where, setWhere] = useState("");
  const [problem, setProblem] = useState("");
  const metrics = useQuery({
    queryKey: ["metrics", "all"],
    queryFn: () => got(api.GET("/api/v1/metrics", { params: { query: {} } })),
    staleTime: 60_000,
  });
  const metric = metrics.data?.items.find((one) => one.name === what);
  const plain = /^(label|fact):/.test(what);
  const make = () => {
    const read = readColumn(what.trim());
    if (!read) {
      setProblem("write the name of a metric, label:NAME, fact:NAME, or count:alerts, count:incidents, count:events");
      return;
    }
    const ask = plain ? read : { ...read, over, ...(where.trim() ? { where: where.trim() } : {}) };
    add(columnText(ask.metric ? { ...ask, take } : ask));
    setWhat("");
    setWhere("");
    setProblem("");
  };
  return (
    <form
      className="col-span-2 mt-2 border-base-300 border-t pt-2 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        make();
      }}
    >
      <p className="mb-1 font-semibold">Another column</p>
      <input
        className="input input-sm mb-1 w-full"
        aria-label="What the column shows"
        placeholder="a metric, label:NAME, fact:NAME, count:alerts"
        list="column-choices"
        value={what}
        onChange={(e) => setWhat(e.target.value)}
      />
      <datalist id="column-choices">
        {["count:alerts", "count:incidents", "count:events", ...labels.map((one) => `label:${one}`)].map((one) => (
          <option key={one} value={one} />
        ))}
        {(metrics.data?.items ?? []).map((one) => (
          <option key={one.name} value={one.name}>
            {one.description}
          </option>
        ))}
      </datalist>
      {metric && <p className="mb-1 text-ink-2 text-xs">{metric.description}</p>}
      {!plain && (
        <div className="mb-1 flex gap-1">
          <select
            className="select select-sm"
            aria-label="Take"
            value={take}
            onChange={(e) => setTake(e.target.value as Take)}
          >
            {TAKES.map(([one, word]) => (
              <option key={one} value={one}>
                {word}
              </option>
            ))}
          </select>
          <select className="select select-sm" aria-label="Over" value={over} onChange={(e) => setOver(e.target.value)}>
            {OVERS.map((one) => (
              <option key={one} value={one}>
                over {one}
              </option>
            ))}
          </select>
        </div>
      )}
      {!plain && (
        <input
          className="input input-sm mb-1 w-full"
          aria-label="Only where"
          placeholder={
            metric?.attributes.length ? `only where, like ${metric.attributes[0]} eq "…"` : "only where (a filter)"
          }
          value={where}
          onChange={(e) => setWhere(e.target.value)}
        />
      )}
      <button type="submit" className="btn btn-sm" disabled={!what.trim()}>
        Add the column
      </button>
      {problem && (
        <p role="alert" className="mt-1 text-error">
          {problem}
        </p>
      )}
    </form>
  );
}
