import { useEffect, useId, useRef, useState } from "react";
import type { components } from "../api/schema";
import {
  COMPARISONS,
  type Condition,
  emptyCondition,
  fromTree,
  type Group,
  group,
  type Node,
  toText,
  typed,
} from "../lib/filterTree";

const ALL = ["host", "group", "label.", "severity", "source", "body", "pattern"];
const SEVERITIES = ["emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"];

/** A filter drawn as groups in groups, changed condition by condition; its text follows, and it follows its text. */
export function FilterBuilder({
  value,
  told,
  change,
  attributes,
}: {
  value: string;
  told: components["schemas"]["FilterExplained"] | undefined;
  change: (where: string) => void;
  attributes: readonly string[];
}) {
  const names = useId();
  const [root, setRoot] = useState<Group>(() => fromTree(told?.tree));
  // What was built here comes back as text; it must not undo a condition that is half filled in.
  const built = useRef(toText(root));
  useEffect(() => {
    if (value.trim() === built.current) return;
    if (!value.trim()) setRoot(group([]));
    else if (told?.tree && told.where === value.trim()) setRoot(fromTree(told.tree));
    else return;
    built.current = value.trim();
  }, [value, told]);
  const put = (next: Group) => {
    const text = toText(next);
    setRoot(next);
    if (text === built.current) return;
    built.current = text;
    change(text);
  };
  return (
    <fieldset className="mt-1 rounded-box border border-base-300 bg-base-100 p-2 text-sm" aria-label="Build the filter">
      <datalist id={names}>
        {[...new Set([...ALL, ...attributes])].map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      {told?.problem ? (
        <p className="text-ink-2">The text has a slip: mend it, or clear it, and build on.</p>
      ) : (
        <GroupBox node={root} put={put} names={names} outermost />
      )}
    </fieldset>
  );
}

function GroupBox({
  node,
  put,
  remove,
  names,
  outermost = false,
}: {
  node: Group;
  put: (node: Group) => void;
  remove?: () => void;
  names: string;
  outermost?: boolean;
}) {
  const change = (at: number, next: Node | undefined) =>
    put({ ...node, parts: next ? node.parts.map((p, i) => (i === at ? next : p)) : node.parts.toSpliced(at, 1) });
  const how = `${node.denied ? "not " : ""}${node.join}`;
  return (
    <div className={outermost ? "" : "my-1 border-base-300 border-l-2 pl-2"}>
      <div className="flex items-center gap-2">
        <select
          className="select select-xs w-40"
          aria-label="How these conditions join"
          value={how}
          onChange={(e) => {
            const [last = "all", not] = e.target.value.split(" ").reverse();
            put({ ...node, join: last as Group["join"], denied: not === "not" });
          }}
        >
          <option value="all">all of these</option>
          <option value="any">any of these</option>
          <option value="not all">not all of these</option>
          <option value="not any">none of these</option>
        </select>
        <button type="button" className="btn btn-ghost btn-xs" onClick={() => put(plus(node, emptyCondition()))}>
          + condition
        </button>
        <button
          type="button"
          className="btn btn-ghost btn-xs"
          onClick={() => put(plus(node, group([emptyCondition()], node.join === "all" ? "any" : "all")))}
        >
          + group
        </button>
        {remove && (
          <button type="button" className="btn btn-ghost btn-xs" aria-label="Remove this group" onClick={remove}>
            ×
          </button>
        )}
      </div>
      {node.parts.map((part, at) =>
        part.kind === "group" ? (
          <GroupBox
            key={at}
            node={part}
            put={(n) => change(at, n)}
            remove={() => change(at, undefined)}
            names={names}
          />
        ) : (
          <Row key={at} node={part} put={(n) => change(at, n)} remove={() => change(at, undefined)} names={names} />
        ),
      )}
    </div>
  );
}

function plus(node: Group, part: Node): Group {
  return { ...node, parts: [...node.parts, part] };
}

function Row({
  node,
  put,
  remove,
  names,
}: {
  node: Condition;
  put: (node: Condition) => void;
  remove: () => void;
  names: string;
}) {
  const severity = node.attribute.toLowerCase() === "severity";
  return (
    <div className="mt-1 grid grid-cols-[minmax(0,1.2fr)_9rem_minmax(0,2fr)_1.5rem] items-center gap-1">
      <input
        className="input input-xs w-full font-dense"
        aria-label="Attribute"
        placeholder="attribute"
        list={names}
        spellCheck={false}
        value={node.attribute}
        onChange={(e) => put({ ...node, attribute: e.target.value.trim() })}
      />
      <select
        className="select select-xs w-full"
        aria-label="Comparison"
        value={`${node.denied ? "not " : ""}${node.comparison}`}
        onChange={(e) => {
          const [comparison = "eq", not] = e.target.value.split(" ").reverse();
          put(typed({ ...node, comparison, denied: not === "not" }, node.value));
        }}
      >
        {COMPARISONS.map(([comparison, word]) => (
          <option key={comparison} value={comparison}>
            {word}
          </option>
        ))}
        {COMPARISONS.filter(([comparison]) => comparison !== "eq" && comparison !== "ne").map(([comparison, word]) => (
          <option key={`not ${comparison}`} value={`not ${comparison}`}>
            {comparison === "pr" ? "is missing" : `not: ${word}`}
          </option>
        ))}
        {node.denied && (node.comparison === "eq" || node.comparison === "ne") && (
          <option value={`not ${node.comparison}`}>{node.comparison === "eq" ? "not: is" : "not: is not"}</option>
        )}
      </select>
      {node.comparison === "pr" ? (
        <span />
      ) : severity ? (
        <select
          className="select select-xs w-full"
          aria-label="Value"
          value={node.value}
          onChange={(e) => put({ ...node, value: e.target.value, text: true })}
        >
          <option value="">which</option>
          {SEVERITIES.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      ) : (
        <input
          className="input input-xs w-full font-dense"
          aria-label="Value"
          placeholder="value"
          spellCheck={false}
          value={node.value}
          onChange={(e) => put(typed(node, e.target.value))}
        />
      )}
      <button type="button" className="btn btn-ghost btn-xs" aria-label="Remove this condition" onClick={remove}>
        ×
      </button>
    </div>
  );
}
