import { useVirtualizer } from "@tanstack/react-virtual";
import {
  type Dispatch,
  type KeyboardEvent,
  memo,
  type SetStateAction,
  useCallback,
  useMemo,
  useRef,
  useState,
} from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Host, Schemas } from "../api/client";
import { duration, unix, withUnit } from "../lib/format";
import { withSpan } from "../lib/useSpan";
import { StateWord } from "../ui/Signal";
import { Sliver } from "../ui/Sliver";
import type { Column, Order, Row } from "./columns";
import { FACTS, type Fact } from "./facts";

const ROW = 30;
const FIRST = { width: 1200, height: 600 };
const ROW_CLASS = "grid gap-x-3 items-center";

const GAP = 12;

/** The widths of the table's columns: choice, state, host, then those shown, then alerts and last heard; where they do
 * not fit, the table is as wide as it has to be. */
export function gridOf(shown: string[], columns: Column[], lines: boolean) {
  const facts = FACTS.filter((f) => shown.includes(f.key)).map(() => [90, 1.2]);
  const worked = columns.map(() => [lines ? 136 : 84, 0.9]);
  const groups = shown.includes("groups") ? [[150, 1.6]] : [];
  const wide = [[20, 0], [92, 0], [120, 1.2], ...groups, ...facts, ...worked, [62, 0], [96, 0]] as [number, number][];
  return {
    gridTemplateColumns: wide.map(([least, part]) => (part ? `minmax(${least}px,${part}fr)` : `${least}px`)).join(" "),
    minWidth: wide.reduce((sum, [least]) => sum + least + GAP, 0),
  };
}

interface TableProps {
  rows: Row[];
  hosts: ReadonlyMap<string, Host>;
  columns: Column[];
  answers: Schemas["ColumnAnswer"][];
  order: Order;
  setOrder: (order: Order) => void;
  now: number;
  shown: string[];
  chosen: ReadonlySet<string>;
  setChosen: Dispatch<SetStateAction<ReadonlySet<string>>>;
}

export function FleetTable(props: TableProps) {
  const { rows, hosts, columns, answers, order, setOrder, now, shown, chosen, setChosen } = props;
  const lines = Boolean(rows[0]?.lines);
  const grid = useMemo(() => gridOf(shown, columns, lines), [shown, columns, lines]);
  const facts = useMemo(() => FACTS.filter((f) => shown.includes(f.key)), [shown]);
  const toggle = useCallback(
    (name: string) =>
      setChosen((held) => {
        const next = new Set(held);
        if (!next.delete(name)) next.add(name);
        return next;
      }),
    [setChosen],
  );
  const scroller = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [parameters] = useSearchParams();
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
    // The first rows need not wait until the place for them was measured.
    initialRect: FIRST,
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
      toggle(row.host);
    }
    if (event.key === "Enter" && row && event.target === scroller.current) {
      void navigate(withSpan(`/fleet/${encodeURIComponent(row.host)}`, parameters));
    }
  };
  const heading = (name: string, column: string, right = false, title = "") => (
    <div
      role="columnheader"
      aria-sort={order.key === column ? (order.down ? "descending" : "ascending") : "none"}
      className={`grow-cell ${right ? "text-right" : ""}`}
      title={title || undefined}
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
    <div role="table" aria-label="Fleet" aria-rowcount={rows.length + 1} className="overflow-x-auto font-dense">
      <div role="row" aria-rowindex={1} className={`${ROW_CLASS} border-base-300 border-b pr-3 pb-1`} style={grid}>
        <div role="columnheader">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            aria-label="Choose all hosts shown"
            checked={chosen.size > 0 && rows.every((r) => chosen.has(r.host))}
            onChange={(e) => setChosen(new Set(e.target.checked ? rows.map((r) => r.host) : []))}
          />
        </div>
        {heading("State", "state")}
        {heading("Host", "name")}
        {shown.includes("groups") && <Plain name="Groups" />}
        {facts.map((f) => (
          <div key={f.key} className="contents">
            {f.fact ? heading(f.name, f.key) : <Plain name={f.name} />}
          </div>
        ))}
        {columns.map((c, i) => (
          <div key={c.key} className="contents">
            {heading(c.name, c.key, c.right || answers[i]?.kind === "number", answers[i]?.problem || c.about)}
          </div>
        ))}
        <Plain name="Alerts" right />
        <Plain name="Last heard" right />
      </div>
      <div
        ref={scroller}
        className="overflow-y-auto overflow-x-hidden outline-offset-[-2px]"
        style={{ height: "calc(100vh - 150px)", minWidth: grid.minWidth }}
        role="rowgroup"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region has to be reached by keyboard
        tabIndex={0}
        onKeyDown={key}
      >
        <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index];
            const host = row && hosts.get(row.host);
            if (!row || !host) return null;
            return (
              <HostRow
                key={host.name}
                row={row}
                host={host}
                place={item.index}
                start={item.start}
                marked={item.index === at}
                chosen={chosen.has(host.name)}
                toggle={toggle}
                grid={grid}
                columns={columns}
                answers={answers}
                facts={facts}
                groups={shown.includes("groups")}
                link={withSpan(`/fleet/${encodeURIComponent(host.name)}`, parameters)}
                now={now}
              />
            );
          })}
        </div>
      </div>
    </div>
  );
}

interface RowProps {
  row: Row;
  host: Host;
  place: number;
  start: number;
  marked: boolean;
  chosen: boolean;
  toggle: (name: string) => void;
  grid: ReturnType<typeof gridOf>;
  columns: Column[];
  answers: Schemas["ColumnAnswer"][];
  facts: readonly Fact[];
  groups: boolean;
  link: string;
  now: number;
}

/** A row, drawn anew only when something of it changed: while somebody scrolls, rows that stay stay as they are. */
const HostRow = memo(function HostRow(props: RowProps) {
  const { row, host, place, start, marked, chosen, toggle, grid, columns, answers, facts, groups, link, now } = props;
  return (
    <div
      role="row"
      aria-rowindex={place + 2}
      className={`${ROW_CLASS} absolute inset-x-0 border-base-300 border-b pr-3 hover:bg-base-200 ${marked || chosen ? "bg-base-200" : ""}`}
      style={{ ...grid, height: ROW, transform: `translateY(${start}px)` }}
    >
      <div role="cell">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          aria-label={`Choose ${host.name}`}
          checked={chosen}
          onChange={() => toggle(host.name)}
        />
      </div>
      <div role="cell">
        <StateWord state={row.state} />
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
      {facts.map((fact) => {
        const said = fact.of(host, now);
        return (
          <div key={fact.key} role="cell" className="grow-cell" title={said}>
            {said}
          </div>
        );
      })}
      {columns.map((column, i) => (
        <Cell
          key={column.key}
          right={column.right || answers[i]?.kind === "number"}
          text={said(row.values[i], answers[i]?.unit ?? "")}
          unusual={row.unusual[i] ?? null}
          line={row.lines?.[i] ?? undefined}
        />
      ))}
      <div role="cell" className={`text-right ${host.open_alerts ? "font-semibold text-state-critical" : ""}`}>
        {host.open_alerts || ""}
      </div>
      <div role="cell" className="grow-cell text-right text-ink-2">
        {host.last_seen ? `${duration(Math.max(0, now + 15 - unix(host.last_seen)))} ago` : "never"}
      </div>
    </div>
  );
});

function Plain({ name, right = false }: { name: string; right?: boolean }) {
  return (
    <div role="columnheader" className={`font-semibold text-ink-2 text-sm ${right ? "text-right" : ""}`}>
      {name}
    </div>
  );
}

function said(value: number | string | null | undefined, unit: string): string {
  return typeof value === "number" ? withUnit(value, unit) : (value ?? "");
}

/** A value, marked where it is unlike those of its group, with a small line of its course where one is asked for. */
function Cell({
  text,
  right,
  unusual,
  line,
}: {
  text: string;
  right: boolean;
  unusual: number | null;
  line: (number | null)[] | undefined;
}) {
  return (
    <div
      role="cell"
      className={`flex items-center gap-1.5 ${right ? "justify-end" : "grow-cell"}`}
      title={unusual ? `unusual: ${unusual} deviations from the others of its group` : right ? undefined : text}
    >
      {line && <Sliver values={line} />}
      <span
        className={`whitespace-nowrap ${unusual ? "font-semibold underline decoration-2 decoration-state-warning underline-offset-2" : ""}`}
      >
        {text}
      </span>
    </div>
  );
}
