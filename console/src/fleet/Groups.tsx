import type { Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import { plural, withUnit } from "../lib/format";
import { Proportion } from "../ui/Ribbon";
import { Signal } from "../ui/Signal";
import type { Column } from "./columns";

/** Units of which a sum says something. */
const ADDS_UP = /^By$|^By\/s$|\/s$|^\{/;

/** What the columns are together in each group, the worst group first; a group leads to its hosts. */
export function Groups({
  groups,
  by,
  columns,
  answers,
  choose,
}: {
  groups: Schemas["TableGroup"][];
  by: string;
  columns: Column[];
  answers: Schemas["ColumnAnswer"][];
  choose: (condition: string) => void;
}) {
  const shown = columns.map((column, i) => ({ column, i, unit: answers[i]?.unit ?? "" })).filter((c) => c.column.right);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached with the keyboard
    <div className="mb-4 overflow-x-auto" tabIndex={0} role="region" aria-label={`Groups by ${by}`}>
      <table className="w-full border-collapse font-dense text-sm">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2">
            <th scope="col" className="py-1 font-normal">
              {by.replace(/^(label|fact|kit)\./, "")}
            </th>
            <th scope="col" className="w-32 font-normal">
              hosts
            </th>
            {shown.map(({ column }) => (
              <th key={column.key} scope="col" className="pl-3 text-right font-normal" title={column.about}>
                {column.name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {groups.map((group) => (
            <tr key={group.name} className="border-base-300 border-b align-baseline hover:bg-base-200">
              <th scope="row" className="whitespace-nowrap py-1 pr-3 text-left font-normal">
                <Signal state={group.state} size={15} />{" "}
                <button
                  type="button"
                  className="touch cursor-pointer font-semibold hover:underline"
                  onClick={() => choose(group.name ? `${by} eq ${quoted(group.name)}` : `${by} eq null`)}
                >
                  {group.name || "(none)"}
                </button>{" "}
                <span className="text-ink-2">{plural(group.hosts, "host")}</span>
              </th>
              <td>
                <Proportion states={group.states} total={group.hosts} />
              </td>
              {shown.map(({ column, i, unit }) => (
                <td key={column.key} className="whitespace-nowrap pl-3 text-right">
                  <Together value={group.values[i] ?? null} unit={unit} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A column over a group: its mean, or its sum where that says something; and the most with its host. */
function Together({ value, unit }: { value: Schemas["GroupValue"] | null; unit: string }) {
  if (!value) return <span className="text-ink-2">–</span>;
  const adds = ADDS_UP.test(unit);
  return (
    <>
      <span className="font-semibold">{withUnit(adds ? value.sum : value.mean, unit)}</span>{" "}
      <span className="text-ink-2 text-xs">{adds ? "in all" : "mean"}</span>
      <span className="block text-ink-2 text-xs">
        most {withUnit(value.most, unit)}
        {value.hosts > 1 && ` ${value.worst}`}
      </span>
    </>
  );
}
