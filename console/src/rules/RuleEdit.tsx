import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, Refused, type Rule } from "../api/client";
import { duration, moment, plural, withUnit } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { BLANK, bodyOf, formOf, problemOf, type RuleForm } from "./form";

export function Component() {
  const { name } = useParams();
  const rule = useQuery({
    queryKey: ["rules", name],
    queryFn: () => got(api.GET("/api/v1/rules/{name}", { params: { path: { name: name ?? "" } } })),
    enabled: name !== undefined,
    retry: false,
  });
  if (name === undefined) return <Editor start={BLANK} />;
  if (rule.isError) return <Failure error={rule.error} />;
  if (!rule.data) return <Waiting what={name} lines={8} />;
  return <Editor key={rule.data.updated_at} start={formOf(rule.data)} rule={rule.data} />;
}

const TAKES = ["avg", "min", "max", "sum", "count", "last", "rate", "p50", "p90", "p95", "p99"];

function Editor({ start, rule }: { start: RuleForm; rule?: Rule }) {
  const may = useMay("operator");
  const navigate = useNavigate();
  const client = useQueryClient();
  const [form, setForm] = useState(start);
  const [settled, setSettled] = useState(start);
  const [error, setError] = useState<unknown>();
  const [days, setDays] = useState("-24h");
  useEffect(() => {
    const timer = setTimeout(() => setSettled(form), 500);
    return () => clearTimeout(timer);
  }, [form]);
  const metrics = useQuery({
    queryKey: ["metrics"],
    queryFn: () => got(api.GET("/api/v1/metrics")),
    staleTime: 60_000,
  });
  const complete = Boolean(
    settled.metric.trim() && settled.about.trim() && (settled.warning.trim() || settled.critical.trim()),
  );
  const rehearsal = useQuery({
    queryKey: ["rehearse", settled, days],
    enabled: complete,
    queryFn: () => got(api.POST("/api/v1/rules/rehearse", { body: { rule: bodyOf(settled), from: days, to: "now" } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 30_000,
  });
  const fields = [error, rehearsal.error].flatMap((e) => (e instanceof Refused ? e.fields : []));
  const metric = metrics.data?.items.find((m) => m.name === form.metric.trim());
  const set = (change: Partial<RuleForm>) => setForm((held) => ({ ...held, ...change }));
  const save = () => {
    setError(undefined);
    got(api.PUT("/api/v1/rules/{name}", { params: { path: { name: form.name } }, body: bodyOf(form) }))
      .then(() => client.invalidateQueries({ queryKey: ["rules"] }))
      .then(() => navigate("/rules"))
      .catch(setError);
  };
  const remove = () => {
    if (!window.confirm(`Delete the rule ${form.name}? Its open alerts end.`)) return;
    got(api.DELETE("/api/v1/rules/{name}", { params: { path: { name: form.name } } }))
      .then(() => client.invalidateQueries({ queryKey: ["rules"] }))
      .then(() => navigate("/rules"))
      .catch(setError);
  };
  const field = (
    key: keyof RuleForm,
    place: string,
    label: string,
    more: { hint?: string; wide?: boolean; list?: string } = {},
  ) => (
    <Field label={label} problem={problemOf(fields, place)} hint={more.hint} wide={more.wide}>
      <input
        className="input input-sm w-full font-dense"
        aria-invalid={problemOf(fields, place) !== undefined}
        disabled={!may || (key === "name" && rule !== undefined)}
        value={String(form[key])}
        list={more.list}
        spellCheck={false}
        onChange={(e) => set({ [key]: e.target.value })}
      />
    </Field>
  );
  return (
    <div className="grid max-w-6xl grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-8">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save();
        }}
      >
        <h1 className="mb-2 font-semibold text-xl">{rule ? rule.name : "New rule"}</h1>
        <div className="grid grid-cols-6 gap-x-4 gap-y-2">
          {!rule &&
            field("name", "name", "Name", {
              wide: true,
              hint: "letters, digits and - ; it becomes part of an address",
            })}
          {field("about", "about", "About", { wide: true, hint: "one line that tells a tired person what is wrong" })}
          {field("metric", "metric", "Metric", {
            wide: true,
            list: "metrics",
            hint: metric
              ? `${metric.description}; unit ${metric.unit || "none"}; attributes ${metric.attributes.join(", ") || "none"}`
              : undefined,
          })}
          <datalist id="metrics">
            {metrics.data?.items.map((m) => (
              <option key={m.name} value={m.name}>
                {m.description}
              </option>
            ))}
          </datalist>
          {field("where", "where", "Only where", { wide: true, hint: "a filter on attributes; empty for all" })}
          {field("hosts", "hosts", "Only hosts", {
            wide: true,
            hint: 'a filter on hosts, like label.site eq "northquay"; empty for all',
          })}
          <Field label="Take" problem={problemOf(fields, "take")}>
            <select
              className="select select-sm w-full"
              disabled={!may}
              value={form.take}
              onChange={(e) => set({ take: e.target.value })}
            >
              {TAKES.map((t) => (
                <option key={t}>{t}</option>
              ))}
            </select>
          </Field>
          {field("over", "over", "Over")}
          {field("each", "each", "One alert for each", { hint: "attributes, with commas" })}
          <fieldset className="col-span-6 mt-1">
            <legend className="mb-1 flex items-center gap-3 font-semibold">
              Limits
              <select
                aria-label="Direction"
                className="select select-xs w-24"
                disabled={!may}
                value={form.direction}
                onChange={(e) => set({ direction: e.target.value as RuleForm["direction"] })}
              >
                <option>above</option>
                <option>below</option>
              </select>
              <span className="font-normal text-ink-2 text-sm">
                in the unit of the metric
                {metric?.unit === "1" ? ": a share, so 0.9 is 90 %" : metric?.unit ? `, ${metric.unit}` : ""}
              </span>
            </legend>
            {(["warning", "critical"] as const).map((severity) => (
              <div key={severity} className="mb-1 grid grid-cols-[110px_1fr_1fr_1fr] items-start gap-3">
                <span className="flex items-center gap-1.5 pt-1">
                  <Signal state={severity} size={16} label={false} /> {severity}
                </span>
                {(["", "Hold", "Clear"] as const).map((part) => {
                  const key = `${severity}${part}` as "warning" | "warningHold" | "warningClear";
                  const place = part === "" ? `limits.${severity}` : `${severity}.${part.toLowerCase()}`;
                  return (
                    <label key={part} className="flex items-center gap-2 text-sm">
                      <span className="w-10 text-ink-2">{part === "" ? form.direction : part.toLowerCase()}</span>
                      <input
                        className="input input-sm w-full font-dense"
                        disabled={!may}
                        inputMode={part === "Hold" ? "text" : "decimal"}
                        value={form[key]}
                        aria-invalid={problemOf(fields, place) !== undefined}
                        onChange={(e) => set({ [key]: e.target.value })}
                      />
                    </label>
                  );
                })}
              </div>
            ))}
            {fields
              .filter((f) => f.field.includes("limits"))
              .map((f) => (
                <p key={f.field} role="alert" className="text-error text-sm">
                  {f.field.replace("rule.", "")}: {f.detail}
                </p>
              ))}
          </fieldset>
          <Field
            label="Advice"
            problem={problemOf(fields, "advice")}
            wide
            hint="what to look at and what to do, for whoever is woken by it"
          >
            <textarea
              className="textarea w-full"
              rows={5}
              disabled={!may}
              value={form.advice}
              onChange={(e) => set({ advice: e.target.value })}
            />
          </Field>
          <label className="col-span-6 flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              disabled={!may}
              checked={form.enabled}
              onChange={(e) => set({ enabled: e.target.checked })}
            />
            at work
          </label>
        </div>
        {error !== undefined && <Failure error={error} />}
        {may ? (
          <div className="mt-3 flex gap-3">
            <button type="submit" className="btn btn-primary btn-sm" disabled={!complete || !form.name}>
              Save
            </button>
            {rule && (
              <button type="button" className="btn btn-ghost btn-sm text-error" onClick={remove}>
                Delete
              </button>
            )}
          </div>
        ) : (
          <p className="mt-3 text-ink-2">Changing rules needs the role operator.</p>
        )}
      </form>
      <Rehearsed complete={complete} query={rehearsal} days={days} setDays={setDays} />
    </div>
  );
}

function Field({
  label,
  problem,
  hint,
  wide,
  children,
}: {
  label: string;
  problem?: string | undefined;
  hint?: string | undefined;
  wide?: boolean | undefined;
  children: ReactNode;
}) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is among the children
    <label className={wide ? "col-span-6" : "col-span-2"}>
      <span className="text-sm">{label}</span>
      {children}
      {problem ? (
        <span role="alert" className="block text-error text-sm">
          {problem}
        </span>
      ) : (
        hint && <span className="block text-ink-2 text-xs">{hint}</span>
      )}
    </label>
  );
}

interface RehearsalQuery {
  data?: Awaited<ReturnType<typeof rehearsalType>> | undefined;
  error: unknown;
  isFetching: boolean;
}
declare function rehearsalType(): Promise<import("../api/client").Schemas["Rehearsal"]>;

function Rehearsed({
  complete,
  query,
  days,
  setDays,
}: {
  complete: boolean;
  query: RehearsalQuery;
  days: string;
  setDays: (d: string) => void;
}) {
  const { now } = useSpan();
  const data = query.data;
  return (
    <section aria-label="Rehearsal" aria-live="polite">
      <div className="mt-1 mb-2 flex items-center gap-3">
        <h2 className="font-semibold">Rehearsal</h2>
        <select
          aria-label="Over"
          className="select select-xs w-32"
          value={days}
          onChange={(e) => setDays(e.target.value)}
        >
          <option value="-3h">last 3 hours</option>
          <option value="-24h">last 24 hours</option>
          <option value="-7d">last 7 days</option>
        </select>
        {query.isFetching && <span className="text-ink-2 text-sm">running it over history …</span>}
      </div>
      {!complete && (
        <p className="text-ink-2">
          Fill in what it is about, a metric and at least one limit: you then see when it would have opened.
        </p>
      )}
      {complete && query.error instanceof Error && <p className="text-error text-sm">{query.error.message}</p>}
      {complete && data && !query.error && (
        <>
          <p className="mb-2">
            {data.items.length === 0
              ? `It would not have opened, on ${plural(data.groups, "thing")} it watches.`
              : `It would have opened ${plural(data.items.length + data.left_out, "time")}, on ${plural(data.groups, "thing")} it watches.`}
          </p>
          <ul
            className="hairline max-h-[60vh] overflow-y-auto font-dense text-sm"
            tabIndex={data.items.length > 12 ? 0 : -1}
          >
            {[...data.items].reverse().map((item) => (
              <li
                key={`${item.host}${item.opened_at}${JSON.stringify(item.attributes)}`}
                className="grid grid-cols-[20px_1fr_auto] gap-x-2 py-1"
              >
                <Signal state={item.severity === "critical" ? "critical" : "warning"} size={15} label={item.severity} />
                <span className="grow-cell">
                  <span className="font-semibold">{item.host}</span>{" "}
                  <span className="text-ink-2">{Object.values(item.attributes).join(" ")}</span>
                </span>
                <span className="text-right text-ink-2">{withUnit(item.worst_value, data.unit)}</span>
                <span />
                <span className="col-span-2 text-ink-2">
                  {moment(item.opened_at, now)},{" "}
                  {item.recovered_at ? `for ${duration(item.recovered_at - item.opened_at)}` : "still open"}
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
