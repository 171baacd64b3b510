import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { FilterBuilder } from "./FilterBuilder";
import { FilterTold } from "./FilterTold";
import { Field, useField } from "./Form";
import { useExplained } from "./useExplained";

/** A filter as a field of a form: typed, built, or taken from those that have a name; with what it says. */
export function WhereField({
  placeholder,
  attributes = [],
  ...shared
}: Parameters<typeof useField>[0] & { placeholder?: string; attributes?: readonly string[] }) {
  const { field, value, put, common } = useField(shared);
  const [building, setBuilding] = useState(false);
  const { told } = useExplained(value);
  const saved = useQuery({ queryKey: ["filters"], queryFn: () => got(api.GET("/api/v1/filters")) });
  return (
    <Field {...field}>
      <div className={`join ${shared.width ?? "w-full"}`}>
        <input
          {...common}
          className="input input-sm join-item w-full font-dense"
          placeholder={placeholder}
          required={shared.required}
          autoComplete="off"
          spellCheck={false}
          value={value}
          onChange={(e) => put(e.target.value)}
        />
        <button
          type="button"
          className="btn btn-sm join-item font-normal"
          aria-expanded={building}
          onClick={() => setBuilding(!building)}
        >
          {building ? "Close" : "Build"}
        </button>
        {(saved.data?.items.length ?? 0) > 0 && (
          <select
            className="select select-sm join-item w-24"
            aria-label="Take a filter that has a name"
            value=""
            onChange={(e) => put(saved.data?.items.find((one) => one.name === e.target.value)?.where ?? "")}
          >
            <option value="">saved</option>
            {saved.data?.items.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </select>
        )}
      </div>
      {building && <FilterBuilder value={value} told={told} change={put} attributes={attributes} />}
      {value.trim() && <FilterTold id={`${common.id}-told`} value={value} told={told} type={put} />}
    </Field>
  );
}
