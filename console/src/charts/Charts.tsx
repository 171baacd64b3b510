import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, got, type MetricAnswer } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { valuePanel } from "../dashboards/pinned";
import { csv, download } from "../lib/csv";
import { moment, stretch, unix, withUnit } from "../lib/format";
import { KEPT_TAKES, measured, type Usual, useAlerts, useEvents } from "../lib/queries";
import { BESIDE, type Question, questionText, readQuestion, shiftOf } from "../lib/question";
import type { Panel } from "../lib/sheet";
import { instant, type Span } from "../lib/span";
import { useAddress } from "../lib/useAddress";
import { useDrawn } from "../lib/useDrawn";
import { useSpan } from "../lib/useSpan";
import { LaneRow, Lanes, useAxis } from "../ui/Lanes";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Answered } from "./Answered";
import { Asking, AskingAsText } from "./Asking";
import { bandsOf } from "./bands";
import { type Drawing, nameOf } from "./ChartLane";
import { Under } from "./Under";

const FIRST: Question = { take: "avg", metric: "balise.cpu.busy", by: ["host"], where: "" };
const MOST_QUESTIONS = 10;
const MOST_SERIES = 24;
const SPLITS = ["host", "site", "group", "application", "service.name", "label.site", "label.role"];

function questionsOf(texts: string[]): Question[] {
  const read = texts.flatMap((text) => readQuestion(text) ?? []);
  return read.length ? read.slice(0, MOST_QUESTIONS) : [FIRST];
}

/** What the address says of a chart. */
function useChart() {
  const [parameters, change] = useAddress();
  const asked = parameters.getAll("q").join("\n");
  const questions = useMemo(() => questionsOf(asked.split("\n")), [asked]);
  const put = (changes: Record<string, string | string[]>) => change(changes, true);
  const number = (name: string) => {
    const text = parameters.get(name);
    return text?.trim() && Number.isFinite(Number(text)) ? Number(text) : undefined;
  };
  const drawing: Drawing = {
    stack: parameters.get("stack") === "1",
    logarithmic: parameters.get("log") === "1",
    low: number("low"),
    high: number("high"),
  };
  return {
    questions,
    beside: parameters.get("beside") ?? "",
    usual: parameters.get("usual") === "1",
    together: parameters.get("together") === "1",
    table: parameters.get("table") === "1",
    under: parameters.get("under") === "1",
    drawing,
    parameters,
    put,
    ask: (next: Question[]) => put({ q: next.map(questionText) }),
    /** Changes some of one question, whatever else has changed meanwhile. */
    revise: (place: number, revised: Partial<Question>) =>
      change(
        (held) => ({
          q: questionsOf(held.getAll("q")).map((one, i) => questionText(i === place ? { ...one, ...revised } : one)),
        }),
        true,
      ),
  };
}

export function Component() {
  const { span, brush } = useSpan();
  const { drawn, draw, clear } = useDrawn();
  const chart = useChart();
  const { questions, beside } = chart;
  const [asText, setAsText] = useState(false);
  const metrics = useQuery({
    queryKey: ["metrics"],
    queryFn: () => got(api.GET("/api/v1/metrics")),
    staleTime: 60_000,
  });
  const shift = shiftOf(beside, span.end - span.start);
  const answers = useQuery({
    queryKey: ["chart", questions, shift, span.start, span.end],
    queryFn: () => measured(bodies(questions, shift, span)),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const count = questions.length;
  const usual = useUsuals(chart.usual ? questions : [], span);
  const splits = useMemo(
    () => [...new Set([...SPLITS, ...(metrics.data?.items ?? []).flatMap((one) => attributesOf(one, questions))])],
    [metrics.data, questions],
  );
  const from = drawn?.start ?? span.start;
  const to = drawn?.end ?? span.end;
  const besideName = BESIDE.find(([key]) => key === beside)?.[1] ?? "";
  return (
    <>
      <h1 className="sr-only">Charts</h1>
      <datalist id="all-metrics">
        {metrics.data?.items.map((one) => (
          <option key={one.name} value={one.name} label={`${one.description}${one.unit ? `, ${one.unit}` : ""}`} />
        ))}
      </datalist>
      <datalist id="all-splits">
        {splits.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      {asText ? (
        <AskingAsText
          questions={questions}
          keep={(next) => {
            chart.ask(next);
            setAsText(false);
          }}
        />
      ) : (
        <form onSubmit={(e) => e.preventDefault()} aria-label="What is asked">
          {questions.map((question, i) => (
            <Asking
              key={i}
              question={question}
              first={i === 0}
              metrics={metrics.data?.items ?? []}
              change={(next) => chart.revise(i, next)}
              remove={count > 1 ? () => chart.ask(questions.toSpliced(i, 1)) : undefined}
            />
          ))}
        </form>
      )}
      <Options chart={chart} asText={asText} setAsText={setAsText} answers={answers.data} span={span} />
      {answers.isError && <Failure error={answers.error} again={() => void answers.refetch()} />}
      {answers.isPending && <Waiting what="the lines" lines={8} />}
      {answers.data && !chart.table && (
        <Lanes start={span.start} end={span.end} drawn={drawn} onDraw={draw} onClear={clear} label="The chart">
          {questions.map((question, i) => (
            <Answered
              key={questionText(question)}
              question={question}
              answer={answers.data[i]}
              beside={shift ? answers.data[count + i] : undefined}
              besideName={besideName}
              usual={usual[i] ?? []}
              together={chart.together}
              drawing={chart.drawing}
              colour={i}
            />
          ))}
          <Marks span={span} where={questions[0]?.where ?? ""} />
        </Lanes>
      )}
      {answers.data && chart.table && <AsTable answers={answers.data.slice(0, count)} span={span} />}
      <Under
        start={from}
        end={to}
        drawn={drawn !== undefined}
        where={chart.under ? hostsOf(questions) : ""}
        narrow={
          hostsOf(questions) ? { on: chart.under, set: () => chart.put({ under: chart.under ? "" : "1" }) } : undefined
        }
        add={(question) => count < MOST_QUESTIONS && chart.ask([...questions, question])}
        zoom={() => brush(from, to)}
        clear={clear}
      />
    </>
  );
}

function bodies(questions: Question[], shift: string | undefined, span: Span) {
  const asked = questions.map((one) => ({
    metric: one.metric,
    take: one.take,
    by: one.by,
    where: one.where || null,
    from: instant(span.start),
    to: instant(span.end),
    points: 300,
    top: MOST_SERIES,
  }));
  return shift ? [...asked, ...asked.map((one) => ({ ...one, shift }))] : asked;
}

function attributesOf(metric: { name: string; attributes: string[] }, questions: Question[]): string[] {
  return questions.some((one) => one.metric === metric.name) ? metric.attributes : [];
}

/** The filter of the first question where it speaks of hosts alone: what lies beneath is of those hosts. */
function hostsOf(questions: Question[]): string {
  const where = questions[0]?.where ?? "";
  const names = [
    ...where.replaceAll(/"(?:[^"\\]|\\.)*"/g, '""').matchAll(/([A-Za-z_][\w.]*) (?:eq|ne|co|sw|ew|pr)\b/g),
  ];
  const own = names.every(([, name]) => /^(host|group|site|application|label\..+)$/.test(name as string));
  return own ? where : "";
}

function Options({
  chart,
  asText,
  setAsText,
  answers,
  span,
}: {
  chart: ReturnType<typeof useChart>;
  asText: boolean;
  setAsText: (on: boolean) => void;
  answers: MetricAnswer[] | undefined;
  span: Span;
}) {
  const { questions, put, drawing } = chart;
  const toggle = (name: string, on: boolean) => put({ [name]: on ? "" : "1" });
  const first = questions[0] ?? FIRST;
  const picture = new URLSearchParams([
    ["metric", first.metric],
    ["take", first.take],
    ["from", instant(span.start)],
    ["to", instant(span.end)],
    ...(first.where ? [["where", first.where]] : []),
    ...first.by.map((one) => ["by", one]),
  ]);
  return (
    <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1 font-dense text-ink-2 text-sm">
      <label className="flex items-center gap-1.5">
        beside
        <select
          className="select select-xs w-auto"
          value={chart.beside}
          onChange={(e) => put({ beside: e.target.value })}
        >
          {BESIDE.map(([key, name]) => (
            <option key={key} value={key}>
              {name}
            </option>
          ))}
        </select>
      </label>
      <Toggle on={chart.usual} name="the usual" set={() => toggle("usual", chart.usual)} />
      <Toggle on={chart.together} name="together" set={() => toggle("together", chart.together)} />
      <Toggle on={drawing.stack} name="stacked" set={() => toggle("stack", drawing.stack)} />
      <Toggle on={drawing.logarithmic} name="logarithmic" set={() => toggle("log", drawing.logarithmic)} />
      <Ends low={drawing.low} high={drawing.high} put={put} />
      <button
        type="button"
        className="link"
        disabled={questions.length >= MOST_QUESTIONS}
        onClick={() => chart.ask([...questions, { ...first, metric: "system.memory.utilization" }])}
      >
        another question
      </button>
      <button type="button" className="link" onClick={() => setAsText(!asText)}>
        {asText ? "as a sentence" : "as text"}
      </button>
      <button type="button" className="link" onClick={() => toggle("table", chart.table)}>
        {chart.table ? "as a chart" : "as a table"}
      </button>
      <button
        type="button"
        className="link"
        disabled={!answers}
        onClick={() => answers && download("chart.csv", "text/csv", [rowsOf(answers.slice(0, questions.length))])}
      >
        CSV
      </button>
      <a className="link" href={`/api/v1/charts/picture.png?${picture}`} target="_blank" rel="noreferrer">
        PNG
      </a>
      <Pin panel={() => panelOf(chart, span)} value={firstOf(chart)} />
    </div>
  );
}

/** The chart as a panel. */
function panelOf(chart: ReturnType<typeof useChart>, span: Span): Panel {
  const shift = shiftOf(chart.beside, span.end - span.start);
  const named = [...new Set(chart.questions.map((one) => one.metric))].slice(0, 3).join(", ");
  return {
    kind: "chart",
    title: named.slice(0, 120),
    at: [0, 0, 6, 4],
    query: {
      queries: chart.questions.map((one) => ({
        metric: one.metric,
        take: one.take,
        by: one.by,
        where: one.where || null,
        top: MOST_SERIES,
        from: "-3h",
        to: "now",
      })),
      beside: shift ? [shift] : [],
      usual: chart.usual,
      stack: chart.drawing.stack,
      logarithmic: chart.drawing.logarithmic,
      lowest: chart.drawing.low ?? null,
      highest: chart.drawing.high ?? null,
    },
  };
}

/** The first question as one figure, if there is one. */
function firstOf(chart: ReturnType<typeof useChart>): (() => Panel) | undefined {
  const first = chart.questions[0];
  return first && (() => valuePanel(first.metric, { ...first, take: first.take }));
}

function Toggle({ on, name, set }: { on: boolean; name: string; set: () => void }) {
  return (
    <label className="flex cursor-pointer items-center gap-1.5">
      <input type="checkbox" className="checkbox checkbox-xs" checked={on} onChange={set} />
      {name}
    </label>
  );
}

/** The ends of the axis: free, or fixed. */
function Ends({
  low,
  high,
  put,
}: {
  low: number | undefined;
  high: number | undefined;
  put: (change: Record<string, string>) => void;
}) {
  const field = (name: "low" | "high", value: number | undefined, label: string) => (
    <input
      key={`${name} ${value}`}
      aria-label={label}
      className="input input-xs w-16"
      placeholder="free"
      defaultValue={value ?? ""}
      onBlur={(e) => put({ [name]: e.target.value.trim() })}
      onKeyDown={(e) => e.key === "Enter" && put({ [name]: e.currentTarget.value.trim() })}
    />
  );
  return (
    <span className="flex items-center gap-1.5">
      axis {field("low", low, "Lower end of the axis")} to {field("high", high, "Upper end of the axis")}
    </span>
  );
}

/** What is usual of each series of each question, by the name of the series. */
function useUsuals(questions: Question[], span: Span): Map<string, Usual>[] {
  const hour = 3600;
  const found = useQueries({
    queries: questions.map((one) => ({
      queryKey: ["usual", "chart", one, Math.floor(span.start / hour), Math.ceil(span.end / hour)],
      enabled: KEPT_TAKES.some((take) => take === one.take),
      queryFn: () =>
        got(
          api.POST("/api/v1/metrics/baseline", {
            body: {
              metric: one.metric,
              where: one.where || null,
              by: one.by.length ? one.by : ["host"],
              take: one.take as (typeof KEPT_TAKES)[number],
              from: instant(span.start - hour),
              to: instant(span.end + hour),
              deviations: 3,
            },
          }),
        ),
      staleTime: 600_000,
      retry: false,
    })),
  });
  return found.map(({ data }) => bandsOf(data));
}

/** Changes and alerts as marks on the axis. */
function Marks({ span, where }: { span: Span; where: string }) {
  const axis = useAxis();
  const changes = useEvents("", 'source eq "change"', span, 100);
  const alerts = useAlerts({ start: span.start, end: span.end });
  const opened = (alerts.data?.items ?? []).filter((a) => unix(a.opened_at) >= span.start);
  const said = changes.data?.items ?? [];
  const inStretch = `${said.length}, ${opened.length}`;
  return (
    <LaneRow
      name="Changes, alerts"
      shows={where ? "of all hosts" : ""}
      value={inStretch}
      unit="in the span"
      height={30}
    >
      <svg
        width={axis.width}
        height={30}
        className="block"
        role="img"
        aria-label={`${said.length} changes, ${opened.length} alerts`}
      >
        <title>Changes and alerts</title>
        {said.map((one) => (
          <Mark
            key={one.id}
            at={unix(one.time)}
            colour="var(--color-primary)"
            text={`${one.host}: ${one.body}`}
            span={span}
          />
        ))}
        {opened.map((one) => (
          <Mark
            key={`alert${one.id}`}
            at={unix(one.opened_at)}
            colour={one.severity === "critical" ? "var(--state-critical)" : "var(--state-warning)"}
            text={`${one.host}: ${one.about}`}
            span={span}
          />
        ))}
      </svg>
    </LaneRow>
  );
}

function Mark({ at, colour, text, span }: { at: number; colour: string; text: string; span: Span }) {
  const axis = useAxis();
  const x = axis.x(at);
  return (
    <g>
      <title>{`${moment(at, span.end)} ${text}`}</title>
      <line x1={x} x2={x} y1={5} y2={22} stroke={colour} strokeWidth="1.6" />
      <circle cx={x} cy={22} r={3} fill={colour} />
    </g>
  );
}

function rowsOf(answers: MetricAnswer[]): string {
  const head = ["time", ...answers.flatMap((a) => a.series.map((s) => `${a.metric} ${nameOf(s.attributes)}`))];
  const first = answers[0];
  const rows = (first?.times ?? []).map((t) => [
    new Date(t * 1000).toISOString(),
    ...answers.flatMap((a) => {
      const at = a.times.indexOf(t);
      return a.series.map((s) => s.values[at] ?? "");
    }),
  ]);
  return csv([head, ...rows]);
}

const MOST_ROWS = 400;

function AsTable({ answers, span }: { answers: MetricAnswer[]; span: Span }) {
  const first = answers.find((a) => a.times.length);
  if (!first) return <Empty title="Nothing was heard in this span." />;
  const columns = answers.flatMap((a) => a.series.map((s) => ({ answer: a, series: s })));
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached with the keyboard
    <div className="max-h-[60vh] overflow-auto" tabIndex={0} role="region" aria-label="Values">
      <table className="table table-xs font-dense">
        <caption className="sr-only">{stretch(span.start, span.end)}</caption>
        <thead>
          <tr>
            <th scope="col">Time</th>
            {columns.map(({ answer, series }) => (
              <th
                scope="col"
                key={`${answer.metric}${answer.unit}${JSON.stringify(series.attributes)}`}
                className="text-right"
              >
                {nameOf(series.attributes)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {first.times
            .slice(-MOST_ROWS)
            .reverse()
            .map((t) => (
              <tr key={t}>
                <th scope="row" className="font-normal">
                  {moment(t, span.end, true)}
                </th>
                {columns.map(({ answer, series }) => (
                  <td key={`${answer.metric}${answer.unit}${JSON.stringify(series.attributes)}`} className="text-right">
                    {withUnit(series.values[answer.times.indexOf(t)] ?? null, answer.unit)}
                  </td>
                ))}
              </tr>
            ))}
        </tbody>
      </table>
    </div>
  );
}
