import { useMemo } from "react";
import type { Host } from "../api/client";
import { useAddress } from "../lib/useAddress";

const ALWAYS = ["site", "group", "application"];
const MOST_LABELS = 20;

/** By what the fleet is rolled up, kept in the address; the labels that hosts have can be chosen too. */
export function useBy(usual = "site"): [string, (by: string) => void] {
  const [parameters, change] = useAddress();
  const by = parameters.get("by") ?? usual;
  const choose = (next: string) => change({ by: next === usual ? "" : next });
  return [by, choose];
}

export function By({ by, choose, hosts }: { by: string; choose: (by: string) => void; hosts: Host[] }) {
  const labels = useMemo(() => {
    const found = new Set<string>();
    for (const host of hosts) for (const name of Object.keys(host.labels)) found.add(`label.${name}`);
    found.delete("label.site");
    return [...found].sort().slice(0, MOST_LABELS);
  }, [hosts]);
  const choices = [...new Set([...ALWAYS, ...labels, by])];
  return (
    <select
      aria-label="Roll up by"
      className="grows touch cursor-pointer border-primary/70 border-b-2 bg-transparent font-semibold text-primary"
      value={by}
      onChange={(e) => choose(e.target.value)}
    >
      {choices.map((one) => (
        <option key={one} value={one}>
          {one.replace("label.", "label ")}
        </option>
      ))}
    </select>
  );
}
