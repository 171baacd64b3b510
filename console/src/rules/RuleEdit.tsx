import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, type Metric, Refused, type Rule } from "../api/client";
import { problemOf } from "../lib/problems";
import {
  BLANK,
  bodyOf,
  formOf,
  isComplete,
  limitPlace,
  type RuleForm,
  SEVERITIES,
  TAKES,
  unitHint,
} from "../lib/ruleForm";
import { useMay } from "../signin/session";
import { AreaField, ChoiceField, FormBox, Submit, TextField, TickField, WentWrong } from "../ui/Form";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { type Form, useForm } from "../ui/useForm";
import { Rehearsed } from "./Rehearsed";

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
function useRehearsal(values: RuleForm, start: RuleForm) {
  const [settled, setSettled] = useState(start);
  const [days, setDays] = useState("-24h");
  useEffect(() => {
    const timer = setTimeout(() => setSettled(values), 500);
    return () => clearTimeout(timer);
  }, [values]);
  const complete = isComplete(settled);
  const query = useQuery({
    queryKey: ["rehearse", settled, days],
    enabled: complete,
    queryFn: () => got(api.POST("/api/v1/rules/rehearse", { body: { rule: bodyOf(settled), from: days, to: "now" } })),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 30_000,
  });
  return { complete, query, days, setDays };
}

function Editor({ start, rule }: { start: RuleForm; rule?: Rule }) {
  const may = useMay("operator");
  const navigate = useNavigate();
  const client = useQueryClient();
  const form = useForm(start);
  const rehearsal = useRehearsal(form.values, start);
  const rehearsed = rehearsal.query.error instanceof Refused ? rehearsal.query.error.fields : [];
  // What a rehearsal finds wrong is said at its field too, before anything is saved.
  const shown = { ...form, problem: (place: string) => form.problem(place) ?? problemOf(rehearsed, place) };
  const path = { name: form.values.name };
  const after = async () => {
    await client.invalidateQueries({ queryKey: ["rules"] });
    await navigate("/rules");
  };
  const save = () => got(api.PUT("/api/v1/rules/{name}", { params: { path }, body: bodyOf(form.values) })).then(after);
  const remove = () => {
    if (!window.confirm(`Delete the rule ${path.name}? Its open alerts end.`)) return;
    void form.send(() => got(api.DELETE("/api/v1/rules/{name}", { params: { path } })).then(after));
  };
  return (
    <div className="grid max-w-6xl gap-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <FormBox form={shown} send={save} disabled={!may}>
        <h1 className="mb-2 font-semibold text-xl">{rule ? rule.name : "New rule"}</h1>
        <div className="grid grid-cols-6 gap-x-4 gap-y-2">
          <What form={shown} isNew={!rule} />
        </div>
        <WentWrong />
        {may ? (
          <div className="mt-3 flex gap-3">
            <Submit label="Save" disabled={!rehearsal.complete || !form.values.name} />
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
      <Rehearsed {...rehearsal} />
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
  const about = metric
    ? `${metric.description}; unit ${metric.unit || "none"}; attributes ${metric.attributes.join(", ") || "none"}`
    : undefined;
  return (
    <>
      {isNew && (
        <TextField
          name="name"
          label="Name"
          className={WIDE}
          hint="letters, digits and - ; it becomes part of an address"
        />
      )}
      <TextField name="about" label="About" className={WIDE} hint="one line that tells a tired person what is wrong" />
      <TextField name="metric" label="Metric" className={WIDE} list="metrics" hint={about} />
      <datalist id="metrics">
        {metrics.data?.items.map((m) => (
          <option key={m.name} value={m.name}>
            {m.description}
          </option>
        ))}
      </datalist>
      <TextField name="where" label="Only where" className={WIDE} hint="a filter on attributes; empty for all" />
      <TextField
        name="hosts"
        label="Only hosts"
        className={WIDE}
        hint={'a filter on hosts, like label.site eq "northquay"; empty for all'}
      />
      <ChoiceField name="take" label="Take" className={NARROW} options={TAKES} />
      <TextField name="over" label="Over" className={NARROW} />
      <TextField name="each" label="One alert for each" className={NARROW} hint="attributes, with commas" />
      <Limits form={form} metric={metric} />
      <AreaField
        name="advice"
        label="Advice"
        rows={5}
        className={WIDE}
        hint="what to look at and what to do, for whoever is woken by it"
      />
      <TickField name="enabled" label="at work" className={WIDE} />
    </>
  );
}

const PARTS = ["", "Hold", "Clear"] as const;

function Limits({ form, metric }: { form: Form<RuleForm>; metric: Metric | undefined }) {
  return (
    <fieldset className="col-span-6 mt-1">
      <legend className="mb-1 flex flex-wrap items-center gap-3 font-semibold">
        Limits
        <ChoiceField name="direction" label={<span className="sr-only">Direction</span>} options={["above", "below"]} />
        <span className="font-normal text-ink-2 text-sm">in the unit of the metric{unitHint(metric)}</span>
      </legend>
      {SEVERITIES.map((severity) => (
        <div key={severity} className="mb-1 grid items-start gap-x-3 sm:grid-cols-[110px_1fr_1fr_1fr]">
          <span className="flex items-center gap-1.5 pt-6">
            <Signal state={severity} size={16} label={false} /> {severity}
          </span>
          {PARTS.map((part) => (
            <TextField
              key={part}
              name={`${severity}${part}`}
              label={part === "" ? form.values.direction : part.toLowerCase()}
              place={limitPlace(severity, part)}
            />
          ))}
        </div>
      ))}
    </fieldset>
  );
}
