import { type ReactNode, useEffect, useState } from "react";
import { FilterField } from "../ui/FilterField";
import { SavedFilters } from "../ui/SavedFilters";
import type { Asked } from "./useAsked";

const FLOORS = [
  { value: "", name: "all severities" },
  { value: "notice", name: "notice and worse" },
  { value: "warning", name: "warning and worse" },
  { value: "error", name: "error and worse" },
] as const;

/** Words, a filter, one that has a name, and a floor of severity: the same on every page of events. */
export function AskBar({ asked, found, children }: { asked: Asked; found: string | undefined; children?: ReactNode }) {
  const { text, where, floor, saved, keep, keepWhere } = asked;
  const [typed, setTyped] = useState(text);
  useEffect(() => setTyped(text), [text]);
  useEffect(() => {
    const timer = setTimeout(() => typed !== text && keep({ text: typed }), 400);
    return () => clearTimeout(timer);
  }, [typed, text, keep]);
  return (
    <div className="mb-1 flex flex-wrap items-start gap-x-3 gap-y-2">
      <label className="w-full md:w-64">
        <span className="sr-only">Text</span>
        <input
          className="input input-sm w-full"
          placeholder='words, "a phrase", begin*'
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </label>
      <FilterField
        where={where}
        keep={keepWhere}
        placeholder='filter, like: host sw "gate-" and source ne "change"'
        found={found}
      />
      <SavedFilters where={where} chosen={saved} choose={(name) => keep({ filter: name })} />
      <select
        className="select select-sm w-full md:w-44"
        aria-label="Severity"
        value={floor}
        onChange={(e) => keep({ floor: e.target.value })}
      >
        {FLOORS.map((f) => (
          <option key={f.value} value={f.value}>
            {f.name}
          </option>
        ))}
      </select>
      {children}
    </div>
  );
}
