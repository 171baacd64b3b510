import type { CSSProperties } from "react";
import { Choices, type Options, type Shared, useField } from "./Form";

/** Fields that stand in a sentence: as wide as what is typed, their labels are read out, and what is wrong follows. */
type Inline = Omit<Shared, "label" | "className" | "width" | "hint"> & { label: string };

const LINE =
  "rounded-none border-0 border-b border-dashed border-ink-2 bg-transparent px-1 font-semibold text-base-content focus-visible:outline-2 focus-visible:outline-offset-2";

function Wrong({ id, problem }: { id: string; problem: string | undefined }) {
  if (!problem) return null;
  return (
    <span id={`${id}-about`} role="alert" className="ml-1 text-error text-sm">
      {problem}
    </span>
  );
}

export function InlineText({ placeholder = "", list, ...shared }: Inline & { placeholder?: string; list?: string }) {
  const { field, value, put, common } = useField(shared);
  const width = Math.min(44, Math.max(value.length, placeholder.length, 2) + 1);
  return (
    <>
      <input
        {...common}
        aria-label={shared.label}
        className={`${LINE} grows h-8 max-w-full`}
        style={{ "--as-wide": `${width}ch` } as CSSProperties}
        list={list}
        placeholder={placeholder}
        autoComplete="off"
        spellCheck={false}
        value={value}
        onChange={(e) => put(e.target.value)}
      />
      <Wrong id={field.id} problem={field.problem} />
    </>
  );
}

export function InlineChoice({ options, ...shared }: Inline & { options: Options }) {
  const { field, value, put, common } = useField(shared);
  return (
    <>
      <select
        {...common}
        aria-label={shared.label}
        className={`${LINE} grows h-8 cursor-pointer`}
        value={value}
        onChange={(e) => put(e.target.value)}
      >
        <Choices options={options} />
      </select>
      <Wrong id={field.id} problem={field.problem} />
    </>
  );
}
