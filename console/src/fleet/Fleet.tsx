import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Host } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { withCondition } from "../lib/filterText";
import { plural } from "../lib/format";
import { useHosts } from "../lib/queries";
import type { Panel } from "../lib/sheet";
import { useAddress } from "../lib/useAddress";
import { useSpan } from "../lib/useSpan";
import { useWhere } from "../lib/useWhere";
import { FilterField } from "../ui/FilterField";
import { Empty, Failure, Waiting } from "../ui/Note";
import { SavedFilters } from "../ui/SavedFilters";
import { Chosen } from "./Chosen";
import { type Column, type Order, orderIn, orderOf, shownIn } from "./columns";
import { GroupBy } from "./GroupBy";
import { Groups } from "./Groups";
import { FleetTable } from "./Table";
import { FleetTabs } from "./Tabs";
import { useColumnsOf, useTable } from "./useTable";
import { Views } from "./Views";

const ATTRIBUTES = ["state", "os", "mode", "label.site", "fact."];
const NONE: Host[] = [];

/** The fleet as a table: any metric, fact, label or count as a column, sorted and grouped by any of them. */
export function Component() {
  const [parameters, change] = useAddress();
  const [where, keepWhere] = useWhere();
  const order = useMemo(() => orderIn(parameters), [parameters]);
  const shown = useMemo(() => shownIn(parameters), [parameters]);
  const groupBy = parameters.get("group") ?? "";
  const lines = parameters.get("lines") === "1";
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const setOrder = (next: Order) => change({ sort: next.key === "state" ? "" : next.key, down: next.down ? "1" : "" });
  const { now } = useSpan();
  const columns = useColumnsOf(shown);
  const hosts = useHosts(where || undefined);
  const table = useTable({ where, columns, order, groupBy, lines });
  const byName = useMemo(() => new Map((hosts.data?.items ?? NONE).map((one) => [one.name, one])), [hosts.data]);
  const rows = useMemo(() => (table.data?.items ?? []).filter((row) => byName.has(row.host)), [table.data, byName]);
  const labels = useMemo(() => labelsOf(hosts.data?.items ?? NONE), [hosts.data]);
  const failed = hosts.error ?? table.error;
  const whole = hosts.whole && table.whole;
  const ready = whole || rows.length > 0;
  return (
    <>
      <FleetTabs />
      <div className="mb-1 flex flex-wrap items-start gap-3">
        <h1 className="sr-only">Fleet</h1>
        <FilterField
          where={where}
          keep={keepWhere}
          placeholder='filter, like: label.site eq "northquay" and state ne "ok"'
          found={where && whole ? plural(rows.length, "host") : undefined}
          attributes={ATTRIBUTES}
        />
        <SavedFilters where={where} chosen="" choose={() => undefined} take={keepWhere} />
        {!where && <span className="font-dense text-ink-2">{whole ? plural(rows.length, "host") : ""}</span>}
        <GroupBy by={groupBy} labels={labels} choose={(by) => change({ group: by })} />
        <label className="flex items-center gap-1.5 py-1 font-dense text-sm">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={lines}
            onChange={(e) => change({ lines: e.target.checked ? "1" : "" })}
          />
          lines
        </label>
        <span className="py-1 font-dense text-sm">
          <Pin panel={() => tablePanel(where, columns, order, groupBy)} />
        </span>
        <Views where={where} columns={shown} order={order} groupBy={groupBy} labels={labels} change={change} />
        <Link className="btn btn-primary btn-sm" to="/enrol">
          Enrol hosts
        </Link>
      </div>
      <Chosen names={[...chosen]} clear={() => setChosen(new Set())} />
      {failed && <Failure error={failed} />}
      {!ready && !failed && <Waiting what="the hosts" lines={10} />}
      {table.data?.groups && groupBy && (
        <Groups
          groups={table.data.groups}
          by={groupBy}
          columns={columns}
          answers={table.data.columns}
          choose={(condition) => change({ where: withCondition(where, condition), group: "" })}
        />
      )}
      {ready && rows.length === 0 && !failed && (
        <Empty title={where ? "No host passes this filter" : "No host is enrolled yet"}>
          {where ? (
            <button type="button" className="btn btn-sm mt-2" onClick={() => keepWhere("")}>
              Show all hosts
            </button>
          ) : (
            <>
              <Link className="link" to="/enrol">
                Enrol the first ones
              </Link>
              : one server, many, or a list of addresses. They appear here within a minute.
            </>
          )}
        </Empty>
      )}
      {ready && rows.length > 0 && (
        <FleetTable
          rows={rows}
          hosts={byName}
          columns={columns}
          answers={table.data?.columns ?? []}
          order={order}
          setOrder={setOrder}
          now={now}
          shown={shown}
          chosen={chosen}
          setChosen={setChosen}
        />
      )}
    </>
  );
}

/** The first rows of the table, as a panel shows them. */
function tablePanel(where: string, columns: Column[], order: Order, groupBy: string): Panel {
  const { extra, sort } = orderOf(order, columns);
  const query = {
    where: where || null,
    columns: [...columns.map((one) => one.ask), ...extra],
    sort,
    group_by: groupBy || null,
    limit: 10,
  };
  return { kind: "table", title: (where || "Hosts").slice(0, 120), at: [0, 0, 12, 6], query } as Panel;
}

/** The labels that hosts have. */
function labelsOf(hosts: Host[]): string[] {
  const found = new Set<string>();
  for (const host of hosts) for (const name of Object.keys(host.labels)) found.add(name);
  return [...found].sort();
}
