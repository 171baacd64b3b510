import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Answered } from "../charts/Answered";
import { bandsOf } from "../charts/bands";
import { nameOf } from "../charts/ChartLane";
import { clock, moment, scaled, unix, withUnit } from "../lib/format";
import type { Question, Take } from "../lib/question";
import type { Panel } from "../lib/sheet";
import type { Span } from "../lib/span";
import { LaneRow, Lanes } from "../ui/Lanes";
import { Signal } from "../ui/Signal";
import { Sliver } from "../ui/Sliver";

export type Answer = Schemas["PanelAnswer"];
type ChartQuery = Schemas["ChartQuery"];

/** What one panel shows, by its kind. */
export function Shown({
  panel,
  answer,
  span,
  draw,
}: {
  panel: Panel;
  answer: Answer | undefined;
  span: Span;
  draw: (start: number, end: number) => void;
}) {
  if (!answer) return <div className="h-24 rounded bg-base-200" aria-busy="true" />;
  if (answer.problem) return <p className="py-1 text-ink-2 text-sm">{answer.problem}</p>;
  switch (panel.kind) {
    case "chart":
      return <Chart query={panel.query} answer={answer} span={span} draw={draw} title={panel.title ?? ""} />;
    case "value":
      return <Figure answer={answer} limit={panel.query.limit ?? undefined} end={span.end} />;
    case "table":
      return <Hosts table={answer.table} />;
    case "states":
      return <States tree={answer.states} />;
    case "text":
      return <p className="whitespace-pre-wrap">{answer.text}</p>;
    default:
      return <List answer={answer} span={span} />;
  }
}

function Chart({
  query,
  answer,
  span,
  draw,
  title,
}: {
  query: ChartQuery;
  answer: Answer;
  span: Span;
  draw: (start: number, end: number) => void;
  title: string;
}) {
  const count = query.queries.length;
  const answers = answer.chart ?? [];
  return (
    <Lanes start={span.start} end={span.end} onDraw={draw} onClear={() => undefined} label={title || "Chart"}>
      {query.queries.map((one, i) => (
        <Answered
          key={`${one.metric ?? one.compute} ${one.take} ${one.where}`}
          question={questionOf(one)}
          answer={answers[i]}
          beside={query.beside?.length ? answers[count + i] : undefined}
          besideName={query.beside?.[0] ?? ""}
          usual={bandsOf(answer.usual?.[i])}
          together={(answers[i]?.series.length ?? 0) > 3}
          drawing={{
            stack: query.stack ?? false,
            logarithmic: query.logarithmic ?? false,
            low: query.lowest ?? undefined,
            high: query.highest ?? undefined,
          }}
          colour={i}
        />
      ))}
      {count === 0 && <LaneRow name="nothing is asked">{null}</LaneRow>}
    </Lanes>
  );
}

function questionOf(query: Schemas["MetricQuery"]): Question {
  return {
    take: (query.take ?? "avg") as Take,
    metric: query.metric ?? query.compute ?? "",
    by: query.by ?? [],
    where: query.where ?? "",
  };
}

/** One figure, large, with its unit and a sliver of its course. */
function Figure({ answer, limit, end }: { answer: Answer; limit: number | undefined; end: number }) {
  const series = answer.value?.series ?? [];
  const unit = answer.value?.unit ?? "";
  const highest = series.reduce<(typeof series)[number] | undefined>(
    (most, one) =>
      (one.values[0] ?? Number.NEGATIVE_INFINITY) > (most?.values[0] ?? Number.NEGATIVE_INFINITY) ? one : most,
    undefined,
  );
  const value = highest?.values[0] ?? null;
  const said = scaled(value, unit);
  const mine = JSON.stringify(highest?.attributes);
  const course = answer.course?.series.find((one) => JSON.stringify(one.attributes) === mine);
  const over = limit !== undefined && value !== null && value >= limit;
  return (
    <div>
      <p className={over ? "text-state-critical" : ""}>
        <span className="font-dense font-semibold text-4xl">{said.value}</span>{" "}
        <span className="text-ink-2 text-lg">{said.unit}</span>
      </p>
      {course && <Sliver values={course.values} width={160} height={26} />}
      <p className="font-dense text-ink-2 text-xs">
        {series.length > 1 && `${nameOf(highest?.attributes ?? {})}, the highest of ${series.length}; `}
        {limit !== undefined && `limit ${withUnit(limit, unit)}; `}
        until {clock(end)}
      </p>
    </div>
  );
}

function Hosts({ table }: { table: Schemas["HostTable"] | null | undefined }) {
  if (!table?.items.length) return <None>No host passes.</None>;
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached with the keyboard
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Values of the hosts">
      <table className="table table-xs font-dense">
        <thead>
          <tr>
            <th scope="col">Host</th>
            {table.columns.map((column, i) => (
              <th scope="col" key={`${i} ${column.name}`} className="text-right">
                {column.name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {table.items.map((row) => (
            <tr key={row.host}>
              <th scope="row" className="whitespace-nowrap font-normal">
                <Signal state={row.state} size={14} />{" "}
                <Link className="hover:underline" to={`/fleet/${encodeURIComponent(row.host)}`}>
                  {row.host}
                </Link>
              </th>
              {row.values.map((value, i) => (
                <td
                  key={`${i} ${table.columns[i]?.name}`}
                  className={`text-right ${row.unusual[i] ? "font-semibold underline decoration-2 decoration-state-warning" : ""}`}
                  title={row.unusual[i] ? `unusual: ${row.unusual[i]} deviations from its group` : undefined}
                >
                  {typeof value === "number" ? withUnit(value, table.columns[i]?.unit ?? "") : value}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function States({ tree }: { tree: Schemas["Tree"] | null | undefined }) {
  return (
    <ul className="font-dense">
      {(tree?.items ?? []).map((node) => (
        <li key={node.node} className="flex items-baseline gap-2 border-base-300 border-b py-1 text-sm">
          <Signal state={node.state} size={15} />
          <span className="shrink-0 font-semibold">{node.name}</span>
          <span className="min-w-0 truncate text-ink-2" title={node.why}>
            {node.why}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** Events, patterns, incidents or alerts, a line each. */
function List({ answer, span }: { answer: Answer; span: Span }) {
  const rows: ReactNode[] = [
    ...(answer.incidents ?? []).map((one) => (
      <Row
        key={one.id}
        time={unix(one.opened_at)}
        span={span}
        right={one.taken_by ? `${one.taken_by} has it` : "nobody"}
      >
        <Signal state={one.recovered_at ? "ok" : one.severity} size={15} />{" "}
        <Link className="hover:underline" to={`/incidents/${one.id}`}>
          {one.title}
        </Link>
      </Row>
    )),
    ...(answer.alerts ?? []).map((one) => (
      <Row key={one.id} time={unix(one.opened_at)} span={span} right={withUnit(one.value, one.unit)}>
        <Signal state={one.severity} size={15} />{" "}
        <Link className="hover:underline" to={`/alerts/${one.id}`}>
          {one.host} {one.about}
        </Link>
      </Row>
    )),
    ...(answer.events ?? []).map((one) => (
      <Row key={one.id} time={unix(one.time)} span={span} right={one.host}>
        <Link className="hover:underline" to={`/events/one/${one.id}`}>
          {one.body}
        </Link>
      </Row>
    )),
    ...(answer.patterns?.items ?? []).map((one) => (
      <Row
        key={`${one.pattern} ${one.severity} ${one.source}`}
        right={one.change === "new" ? "new" : `${one.count} ×`}
        span={span}
      >
        {one.pattern}
      </Row>
    )),
  ];
  return rows.length ? <ul className="font-dense">{rows}</ul> : <None>Nothing in this span.</None>;
}

function None({ children }: { children: ReactNode }) {
  return <p className="py-1 text-ink-2 text-sm">{children}</p>;
}

function Row({ time, span, right, children }: { time?: number; span: Span; right: string; children: ReactNode }) {
  return (
    <li className="flex items-baseline gap-2 border-base-300 border-b py-1 text-sm">
      {time !== undefined && <span className="shrink-0 text-ink-2">{moment(time, span.end)}</span>}
      <span className="min-w-0 grow truncate">{children}</span>
      <span className="shrink-0 text-ink-2">{right}</span>
    </li>
  );
}
