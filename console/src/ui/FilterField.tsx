import { useEffect, useId, useState } from "react";
import { FilterBuilder } from "./FilterBuilder";
import { FilterTold } from "./FilterTold";
import { useExplained } from "./useExplained";

/**
 * A filter that is typed, or built of conditions and groups: under it what it says in English, or where its slip is and
 * what could stand there. One with a slip is not kept: what is shown stays as it was.
 */
export function FilterField({
  where,
  keep,
  placeholder,
  found,
  attributes = [],
}: {
  where: string;
  keep: (where: string) => void;
  placeholder: string;
  /** How much passes it, in words. */
  found?: string | undefined;
  /** What can be asked for, beside what everything has. */
  attributes?: readonly string[];
}) {
  const id = useId();
  const [value, setValue] = useState(where);
  const [building, setBuilding] = useState(false);
  // What comes from elsewhere, a click or the address, is shown; only what was typed here is kept.
  const [typing, setTyping] = useState(false);
  const type = (text: string) => {
    setValue(text);
    setTyping(true);
  };
  useEffect(() => {
    setValue(where);
    setTyping(false);
  }, [where]);
  const { asked, told, settled } = useExplained(value);
  useEffect(() => {
    if (typing && settled && asked !== where.trim()) keep(asked);
  }, [typing, settled, asked, where, keep]);
  return (
    <div className="w-full min-w-0 md:w-0 md:min-w-72 md:grow">
      <div className="join w-full">
        <input
          aria-label="Filter"
          className={`input input-sm join-item w-full font-dense ${told?.problem ? "input-error" : ""}`}
          placeholder={placeholder}
          spellCheck={false}
          aria-invalid={Boolean(told?.problem)}
          aria-describedby={id}
          value={value}
          onChange={(e) => type(e.target.value)}
        />
        <button
          type="button"
          className="btn btn-sm join-item font-normal"
          aria-expanded={building}
          onClick={() => setBuilding(!building)}
        >
          {building ? "Close" : "Build"}
        </button>
      </div>
      {building && <FilterBuilder value={value} told={told} change={type} attributes={attributes} />}
      <FilterTold id={id} value={value} told={told} type={type} found={found} />
    </div>
  );
}
