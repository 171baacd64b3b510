import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, memo, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Host, MetricAnswer } from "../api/client";
import { duration, plural, unix, withUnit } from "../lib/format";
import { useHosts, useMetric } from "../lib/queries";
import { useSpan, withSpan } from "../lib/useSpan";
import { useWhere } from "../lib/useWhere";
import { FilterField } from "../ui/FilterField";
import { Empty, Failure, Waiting } from "../ui/Note";
import { SavedFilters } from "../ui/SavedFilters";
import { StateWord } from "../ui/Signal";
import { Chosen } from "./Chosen";
import { COLUMNS, newest, type Order, ordered } from "./columns";
import { FACTS } from "./facts";
import { FleetTabs } from "./Tabs";
import { DEFAULT_COLUMNS, gridOf, Views } from "./Views";

const ROW = 30;
const ATTRIBUTES = ["state", "os", "mode", "label.site", "fact."];
const NONE: Host[] = [];

export function Component() {
  const [parameters, setParameters] = useSearchParams();
  const [where, keepWhere] = useWhere();
  const order = useMemo<Order>(
    () => ({ key: parameters.get("sort") ?? "state", down: parameters.get("down") === "1" }),
    [parameters],
  );
  const columns = useMemo(() => (parameters.get("columns") ?? "").split(",").filter(Boolean), [parameters]);
  const shown = columns.length ? columns : DEFAULT_COLUMNS;
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const change = (changes: Record<string, string>) =>
    setParameters(
      (held) => {
        const next = new URLSearchParams(held);
        for (const [key, value] of Object.entries(changes)) {
          if (value) next.set(key, value);
          else next.delete(key);
        }
        return next;
      },
      { replace: true },
    );
  const setOrder = (next: Order) => change({ sort: next.key === "state" ? "" : next.key, down: next.down ? "1" : "" });
  const { now } = useSpan();
  const hosts = useHosts(where || undefined);
  const answers = useColumns(now);
  const values = useMemo(() => answers.map((answer) => newest(answer)), [answers]);
  const sorting = COLUMNS.findIndex((c) => c.key === order.key);
  const rows = useMemo(
    () => ordered(hosts.data?.items ?? NONE, order, values[sorting]),
    [hosts.data, order, values, sorting],
  );
  return (
    <>
      <FleetTabs />
      <div className="mb-1 flex flex-wrap items-start gap-3">
        <h1 className="sr-only">Fleet</h1>
        <FilterField
          where={where}
          keep={keepWhere}
          placeholder='filter, like: label.site eq "northquay" and state ne "ok"'
          found={where && hosts.data ? plural(rows.length, "host") : undefined}
          attributes={ATTRIBUTES}
        />
        <SavedFilters where={where} chosen="" choose={() => undefined} take={keepWhere} />
        {!where && <span className="font-dense text-ink-2">{hosts.data ? plural(rows.length, "host") : ""}</span>}
        <Views where={where} columns={shown} order={order} change={change} />
        <Link className="btn btn-primary btn-sm" to="/enrol">
          Enrol hosts
        </Link>
      </div>
      <Chosen names={[...chosen]} clear={() => setChosen(new Set())} />
      {hosts.isError && <Failure error={hosts.error} />}
      {!hosts.data && !hosts.isError && <Waiting what="the hosts" lines={10} />}
      {hosts.data && rows.length === 0 && !hosts.isError && (
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
      {rows.length > 0 && (
        <Table
          rows={rows}
          values={values}
          answers={answers}
          order={order}
          setOrder={setOrder}
          now={now}
          columns={shown}
          chosen={chosen}
          setChosen={setChosen}
        />
      )}
    </>
  );
}

function useColumns(now: number): (MetricAnswer | undefined)[] {
  const span = useMemo(() => ({ from: "", to: "", start: now - 360, end: now, live: true }), [now]);
  const cpu = useMetric(COLUMNS[0]?.ask, span).data;
  const memory = useMetric(COLUMNS[1]?.ask, span).data;
  const disk = useMetric(COLUMNS[2]?.ask, span).data;
  const load = useMetric(COLUMNS[3]?.ask, span).data;
  const net = useMetric(COLUMNS[4]?.ask, span).data;
  return useMemo(() => [cpu, memory, disk, load, net], [cpu, memory, disk, load, net]);
}

const ROW_CLASS = "grid gap-x-3 items-center";

function split(text: string): string[] {
  return text ? text.split("\t") : [];
}

function Plain({ name, right = false }: { name: string; right?: boolean }) {
  return (
    <div role="columnheader" className={`font-semibold text-ink-2 text-sm ${right ? "text-right" : ""}`}>
      {name}
    </div>
  );
}

interface TableProps {
  rows: Host[];
  values: Map<string, number>[];
  answers: (MetricAnswer | undefined)[];
  order: Order;
  setOrder: (order: Order) => void;
  now: number;
  columns: string[];
  chosen: ReadonlySet<string>;
  setChosen: (chosen: ReadonlySet<string>) => void;
}

function Table({ rows, values, answers, order, setOrder, now, columns, chosen, setChosen }: TableProps) {
  const grid = { gridTemplateColumns: gridOf(columns) };
  const measured = COLUMNS.map((c, i) => ({ ...c, i })).filter((c) => columns.includes(c.key));
  const facts = FACTS.filter((f) => columns.includes(f.key));
  const toggle = (name: string) => {
    const next = new Set(chosen);
    if (!next.delete(name)) next.add(name);
    setChosen(next);
  };
  const scroller = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [parameters] = useSearchParams();
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const [at, setAt] = useState(-1);
  const key = (event: KeyboardEvent) => {
    const turn = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (turn) {
      event.preventDefault();
      const next = Math.min(rows.length - 1, Math.max(0, at + turn));
      setAt(next);
      virtual.scrollToIndex(next);
    }
    const row = rows[at];
    if (event.key === " " && row && event.target === scroller.current) {
      event.preventDefault();
      toggle(row.name);
    }
    if (event.key === "Enter" && row && event.target === scroller.current) {
      void navigate(withSpan(`/fleet/${encodeURIComponent(row.name)}`, parameters));
    }
  };
  const heading = (name: string, column: string, right = false) => (
    <div
      role="columnheader"
      aria-sort={order.key === column ? (order.down ? "descending" : "ascending") : "none"}
      className={right ? "text-right" : ""}
    >
      <button
        type="button"
        className="font-semibold text-ink-2 text-sm hover:text-base-content"
        onClick={() => setOrder({ key: column, down: order.key === column ? !order.down : right })}
      >
        {name}
        {order.key === column ? (order.down ? " ▾" : " ▴") : ""}
      </button>
    </div>
  );
  return (
    <div role="table" aria-label="Fleet" aria-rowcount={rows.length + 1} className="font-dense">
      <div role="row" aria-rowindex={1} className={`${ROW_CLASS} border-base-300 border-b pr-3 pb-1`} style={grid}>
        <div role="columnheader">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            aria-label="Choose all hosts shown"
            checked={chosen.size > 0 && rows.every((r) => chosen.has(r.name))}
            onChange={(e) => setChosen(new Set(e.target.checked ? rows.map((r) => r.name) : []))}
          />
        </div>
        {heading("State", "state")}
        {heading("Host", "name")}
        {columns.includes("groups") && <Plain name="Groups" />}
        {facts.map((f) => (
          <Plain key={f.key} name={f.name} />
        ))}
        {measured.map((c) => (
          <div key={c.key} className="contents">
            {heading(c.name, c.key, true)}
          </div>
        ))}
        <Plain name="Alerts" right />
        <Plain name="Last heard" right />
      </div>
      <div
        ref={scroller}
        className="overflow-y-auto outline-offset-[-2px]"
        style={{ height: "calc(100vh - 150px)" }}
        role="rowgroup"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region has to be reached by keyboard
        tabIndex={0}
        onKeyDown={key}
      >
        <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
          {virtual.getVirtualItems().map((item) => {
            const host = rows[item.index];
            if (!host) return null;
            return (
              <div
                key={host.name}
                role="row"
                aria-rowindex={item.index + 2}
                className={`${ROW_CLASS} absolute inset-x-0 border-base-300 border-b pr-3 hover:bg-base-200 ${item.index === at || chosen.has(host.name) ? "bg-base-200" : ""}`}
                style={{ ...grid, height: ROW, transform: `translateY(${item.start}px)` }}
              >
                <div role="cell">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs"
                    aria-label={`Choose ${host.name}`}
                    checked={chosen.has(host.name)}
                    onChange={() => toggle(host.name)}
                  />
                </div>
                <Cells
                  host={host}
                  link={withSpan(`/fleet/${encodeURIComponent(host.name)}`, parameters)}
                  groups={columns.includes("groups")}
                  facts={facts.map((f) => f.of(host, now)).join("\t")}
                  cells={measured
                    .map(({ i }) => withUnit(values[i]?.get(host.name), answers[i]?.unit ?? ""))
                    .join("\t")}
                  heard={host.last_seen ? `${duration(Math.max(0, now + 15 - unix(host.last_seen)))} ago` : "never"}
                />
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

const Cells = memo(function Cells({
  host,
  link,
  groups,
  facts,
  cells,
  heard,
}: {
  host: Host;
  link: string;
  groups: boolean;
  facts: string;
  cells: string;
  heard: string;
}) {
  return (
    <>
      <div role="cell">
        <StateWord state={host.state} />
      </div>
      <div role="cell" className="grow-cell">
        <Link className="font-semibold hover:underline" to={link}>
          {host.name}
        </Link>
      </div>
      {groups && (
        <div role="cell" className="grow-cell text-ink-2">
          {host.groups.join(", ")}
        </div>
      )}
      {split(facts).map((cell, i) => (
        <div key={`f${i}`} role="cell" className="grow-cell" title={cell}>
          {cell}
        </div>
      ))}
      {split(cells).map((cell, i) => (
        <div key={`m${i}`} role="cell" className="text-right">
          {cell}
        </div>
      ))}
      <div role="cell" className={`text-right ${host.open_alerts ? "font-semibold text-state-critical" : ""}`}>
        {host.open_alerts || ""}
      </div>
      <div role="cell" className="grow-cell text-right text-ink-2">
        {heard}
      </div>
    </>
  );
});
