import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, Refused, type Rule, type RuleDocument } from "../api/client";
import { problemOf } from "../lib/problems";
import {
  BLANK,
  bodyOf,
  formOf,
  holdsAll,
  isComplete,
  type Kind,
  limitPlace,
  MEASURES,
  type RuleForm,
  ruleOf,
  SEVERITIES,
} from "../lib/ruleForm";
import { useMay } from "../signin/session";
import { AsText, type Typed } from "../ui/AsText";
import { AreaField, ChoiceField, FormBox, Submit, TextField, TickField, WentWrong } from "../ui/Form";
import { Failure, Waiting } from "../ui/Note";
import { type Form, useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";
import { History } from "./History";
import { Rehearsed } from "./Rehearsed";
import type { Handle } from "./RuleChart";
import { RunsOut } from "./RunsOut";
import { Sentence } from "./Sentence";
import { Suggested } from "./Suggested";

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

/** When a rule would have opened, asked half a second after the last key. */
function useRehearsal(rule: RuleDocument | undefined) {
  const [settled, setSettled] = useState(rule);
  const [days, setDays] = useState("-24h");
  const said = JSON.stringify(rule);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(said ? JSON.parse(said) : undefined), 500);
    return () => clearTimeout(timer);
  }, [said]);
  const query = useQuery({
    queryKey: ["rehearse", settled, days],
    enabled: settled !== undefined,
    queryFn: () =>
      got(api.POST("/api/v1/rules/rehearse", { body: { rule: settled as RuleDocument, from: days, to: "now" } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 30_000,
  });
  return { settled, complete: settled !== undefined, query, days, setDays };
}

const readRule = (text: string) =>
  got(api.POST("/api/v1/rules/read", { body: { text } })).then(({ rule, problems }) => ({
    document: problems.length === 0 && rule ? (rule as RuleDocument) : undefined,
    problems,
  }));

/** The rule as text, once somebody wants it so. */
function useTyped(form: Form<RuleForm>, rule: Rule | undefined) {
  const [typed, setTyped] = useState<Typed<RuleDocument>>();
  const [error, setError] = useState<unknown>();
  const open = useCallback((document: RuleDocument) => {
    got(api.POST("/api/v1/rules/written", { body: document }))
      .then(({ text }) => setTyped({ text, isRead: true, document, problems: [] }))
      .catch(setError);
  }, []);
  useEffect(() => {
    if (rule && !holdsAll(rule)) open(documentOf(rule));
  }, [rule, open]);
  const close = () => {
    const { rule: name, ...said } = typed?.document ?? {};
    if (typed?.document) form.set(formOf({ ...(said as Rule), name: name ?? form.values.name }));
    setTyped(undefined);
  };
  return { typed, setTyped, open, close, error };
}

/** The rule alone, without what is known of it. */
function documentOf({ about, hosts, measure, limits, advice, enabled, flaps_after, name }: Rule): RuleDocument {
  return { rule: name, about, hosts, measure, limits, advice, enabled, flaps_after } as RuleDocument;
}

function Editor({ start, rule }: { start: RuleForm; rule?: Rule }) {
  const may = useMay("operator");
  const navigate = useNavigate();
  const client = useQueryClient();
  const form = useForm(start);
  const asText = useTyped(form, rule);
  const { typed } = asText;
  const document = typed ? typed.document : isComplete(form.values) ? ruleOf(form.values) : undefined;
  const rehearsal = useRehearsal(document);
  const rehearsed = rehearsal.query.error instanceof Refused ? rehearsal.query.error.fields : [];
  // What a rehearsal finds wrong is said at its field too, before anything is saved.
  const shown = { ...form, problem: (place: string) => form.problem(place) ?? problemOf(rehearsed, place) };
  const path = { name: typed?.document?.rule ?? form.values.name };
  const after = async () => {
    await client.invalidateQueries({ queryKey: ["rules"] });
    await navigate("/rules");
  };
  const body = () => {
    if (!typed?.document) return bodyOf(form.values);
    const { rule: _, ...said } = typed.document;
    return { ...said, why: form.values.why };
  };
  const save = () => got(api.PUT("/api/v1/rules/{name}", { params: { path }, body: body() })).then(after);
  const remove = () => {
    if (!window.confirm(`Delete the rule ${path.name}? Its open alerts end.`)) return;
    void form.send(() => got(api.DELETE("/api/v1/rules/{name}", { params: { path } })).then(after));
  };
  const drag = (severity: "warning" | "critical", value: number) => form.set({ [severity]: String(value) });
  const movable = may && !typed;
  return (
    <div className="grid max-w-6xl gap-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <FormBox form={shown} send={save} disabled={!may}>
        <div className="mb-2 flex items-baseline gap-4">
          <h1 className="font-semibold text-xl">{rule ? rule.name : "New rule"}</h1>
          {typed ? (
            <button
              type="button"
              className="link text-sm"
              disabled={!typed.document || !holdsAll(typed.document)}
              onClick={asText.close}
            >
              As a sentence
            </button>
          ) : (
            <button type="button" className="link text-sm" onClick={() => asText.open(ruleOf(form.values))}>
              As text (YAML)
            </button>
          )}
        </div>
        {rule && <Told rule={rule} />}
        {asText.error !== undefined && <Failure error={asText.error} />}
        {typed ? (
          <>
            {typed.document && !holdsAll(typed.document) && (
              <p className="mb-1 text-ink-2 text-sm">
                It says more than a sentence has room for: it is changed as text.
              </p>
            )}
            <AsText
              typed={typed}
              change={asText.setTyped}
              read={readRule}
              label="The rule as text, in YAML"
              readOnly={!may}
            />
            {rule && <TextField name="why" label="Why" hint="kept with this version" />}
          </>
        ) : (
          <What form={shown} isNew={!rule} />
        )}
        <WentWrong />
        {may ? (
          <div className="mt-3 flex gap-3">
            <Submit label="Save" disabled={!document || !path.name} />
            {rule && (
              <button type="button" className="btn btn-ghost btn-sm text-error" onClick={remove}>
                Delete
              </button>
            )}
          </div>
        ) : (
          <p className="mt-3 text-ink-2">Changing rules needs the role operator.</p>
        )}
      </FormBox>
      <div className="space-y-5">
        <Rehearsed
          {...rehearsal}
          lacks={typed ? UNREADABLE : INCOMPLETE}
          handles={handlesOf(form.values)}
          move={movable ? drag : undefined}
        />
        {movable && rehearsal.complete && <Suggested form={form} days={rehearsal.days} />}
        {rehearsal.settled && <RunsOut rule={rehearsal.settled} />}
        {rule && <History name={rule.name} />}
      </div>
    </div>
  );
}

const INCOMPLETE =
  "Fill in what it is about, what is measured and at least one limit: you then see when it would have opened.";
const UNREADABLE = "As soon as the text can be read, you see when it would have opened.";

/** What keeps a rule from being checked, what it cannot know yet, and what in its filters matches nothing. */
function Told({ rule }: { rule: Rule }) {
  const said = [rule.learning, ...(rule.warnings ?? [])].filter(Boolean);
  if (!rule.problem && said.length === 0) return null;
  return (
    <div className="mb-3 text-sm">
      {rule.problem && <p className="text-error">It cannot be checked: {rule.problem}</p>}
      {said.map((one) => (
        <p key={one} className="text-ink-2">
          {one}
        </p>
      ))}
    </div>
  );
}

const WIDE = "col-span-6";
const NARROW = "col-span-6 sm:col-span-2";

/** What is measured, on what, and with which limits. */
function What({ form, isNew }: { form: Form<RuleForm>; isNew: boolean }) {
  const metrics = useQuery({
    queryKey: ["metrics"],
    queryFn: () => got(api.GET("/api/v1/metrics")),
    staleTime: 60_000,
  });
  const metric = metrics.data?.items.find((m) => m.name === form.values.metric.trim());
  return (
    <div className="grid grid-cols-6 gap-x-4 gap-y-2">
      {isNew && (
        <TextField
          name="name"
          label="Name"
          className={WIDE}
          hint="letters, digits and - ; it becomes part of an address"
        />
      )}
      <TextField name="about" label="About" className={WIDE} hint="one line that tells a tired person what is wrong" />
      <ChoiceField name="measures" label="Watch" className={NARROW} options={MEASURES} />
      <div className={WIDE}>
        <Sentence form={form.values} metric={metric} />
        {form.values.measures === "metric" && metric && (
          <p className="-mt-2 mb-2 text-ink-2 text-xs">
            {metric.name}: {metric.description}; unit {metric.unit || "none"}; attributes{" "}
            {metric.attributes.join(", ") || "none"}
          </p>
        )}
      </div>
      <datalist id="metrics">
        {metrics.data?.items.map((m) => (
          <option key={m.name} value={m.name}>
            {m.description}
          </option>
        ))}
      </datalist>
      <Measured form={form} />
      <WhereField
        name="hosts"
        label="Only hosts"
        className={WIDE}
        hint={'a filter on hosts, like label.site eq "northquay"; empty for all'}
      />
      <Clearing form={form} />
      <AreaField
        name="advice"
        label="Advice"
        rows={5}
        className={WIDE}
        hint="what to look at and what to do, for whoever is woken by it"
      />
      <TickField name="enabled" label="at work" className={WIDE} />
      {!isNew && <TextField name="why" label="Why" className={WIDE} hint="kept with this version" />}
    </div>
  );
}

/** What is measured in more words than a sentence has room for. */
function Measured({ form }: { form: Form<RuleForm> }) {
  switch (form.values.measures) {
    case "values":
      return (
        <AreaField
          name="values"
          label="Values"
          place="measure.values"
          rows={3}
          className={WIDE}
          hint="a line each, like bad = rate of http.errors"
        />
      );
    case "events":
      return (
        <>
          <WhereField
            name="events"
            label="Events"
            place="measure.events"
            className={WIDE}
            hint="which events, as a filter"
          />
          <TextField name="text" label="With words" className={WIDE} hint="words that must be there" />
        </>
      );
    case "alerts":
      return (
        <WhereField
          name="alerts"
          label="Alerts"
          place="measure.alerts"
          className={WIDE}
          hint={'which open alerts, like severity eq "critical"'}
        />
      );
    default:
      return (
        <WhereField name="where" label="Only where" className={WIDE} hint="a filter on attributes; empty for all" />
      );
  }
}

/** When an alert ends again, and when there are too many. */
function Clearing({ form }: { form: Form<RuleForm> }) {
  const kind = form.values.kind as Kind;
  const clears = kind !== "missing" && kind !== "first seen";
  return (
    <>
      {clears &&
        SEVERITIES.map((severity) => (
          <TextField
            key={severity}
            name={`${severity}Clear`}
            label={`${severity} clears at`}
            place={limitPlace(severity, "Clear")}
            className={NARROW}
            hint="empty: at its limit"
          />
        ))}
      <TextField
        name="flaps"
        label="Flaps after"
        place="flaps_after"
        className={NARROW}
        hint="openings an hour: it then stays open until calm; 0: never"
      />
    </>
  );
}

/** The limits that are lines on a chart. */
function handlesOf(form: RuleForm): Handle[] {
  if (form.kind !== "above" && form.kind !== "below") return [];
  return SEVERITIES.flatMap((severity): Handle[] => {
    const value = Number(form[severity]);
    return form[severity].trim() && Number.isFinite(value) ? [{ severity, value }] : [];
  });
}
