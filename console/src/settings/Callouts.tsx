import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { BLANK_CALLOUT, type CalloutForm, calloutOf, formOf, stepWords } from "../lib/calloutForm";
import { duration, moment, unix } from "../lib/format";
import { DAYS, hoursText } from "../lib/hours";
import { usePeople } from "../lib/queries";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { ChoiceField, FormBox, RowForm, Submit, TextField, TicksField, WentWrong } from "../ui/Form";
import { InlineText } from "../ui/Inline";
import { Empty, Failure, Waiting } from "../ui/Note";
import { type Form, useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";

const ATTRIBUTES = ["severity", "application", "host", "group", "site", "rule"];

/** Who is told of what, by which way, and what if nobody answers. */
export function Component() {
  const may = useMay("administrator");
  const client = useQueryClient();
  const callouts = useQuery({ queryKey: ["callouts"], queryFn: () => got(api.GET("/api/v1/callouts")) });
  const form = useForm<CalloutForm>(BLANK_CALLOUT);
  const [edited, setEdited] = useState(false);
  const again = () => client.invalidateQueries({ queryKey: ["callouts"] });
  if (callouts.isError) return <Failure error={callouts.error} />;
  if (!callouts.data) return <Waiting what="the callouts" />;
  return (
    <>
      <Who />
      <div className="mt-6 mb-2 flex items-center gap-4">
        <h2 className="font-semibold">Callouts</h2>
        {may && !edited && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => {
              form.reset();
              setEdited(true);
            }}
          >
            A new callout
          </button>
        )}
      </div>
      {edited && (
        <Edit
          form={form}
          done={() => {
            setEdited(false);
            void again();
          }}
        />
      )}
      {callouts.data.items.length === 0 && (
        <Empty title="No callouts yet">A callout says who is told of what: without one, nobody is.</Empty>
      )}
      <div className="hairline border-base-300 border-y">
        {callouts.data.items.map((callout) => (
          <OneCallout
            key={callout.name}
            callout={callout}
            edit={() => {
              form.reset(formOf(callout));
              setEdited(true);
              window.scrollTo({ top: 0 });
            }}
            again={again}
          />
        ))}
      </div>
    </>
  );
}

function OneCallout({
  callout,
  edit,
  again,
}: {
  callout: Schemas["Callout"];
  edit: () => void;
  again: () => Promise<unknown>;
}) {
  const admin = useMay("administrator");
  const operator = useMay("operator");
  const [problem, setProblem] = useState("");
  const [drill, setDrill] = useState<number>();
  const path = { name: callout.name };
  return (
    <section className="py-3" aria-label={callout.name}>
      <div className="flex flex-wrap items-center gap-2">
        <h3 className="font-semibold text-lg">{callout.name}</h3>
        <span className="grow" />
        {operator && (
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            onClick={() => {
              got(api.POST("/api/v1/callouts/{name}/drill", { params: { path } }))
                .then((made) => setDrill(made.id))
                .catch((error: Error) => setProblem(error.message));
            }}
          >
            Practise it
          </button>
        )}
        {admin && (
          <>
            <button type="button" className="btn btn-ghost btn-xs" onClick={edit}>
              Change
            </button>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              onClick={() => {
                got(api.DELETE("/api/v1/callouts/{name}", { params: { path } }))
                  .then(again)
                  .catch((error: Error) => setProblem(error.message));
              }}
            >
              Delete
            </button>
          </>
        )}
      </div>
      <p>
        When <code className="bg-base-200 px-1">{callout.when || "anything is wrong"}</code>
        {callout.hours && `, ${hoursText(callout.hours)}`}:
      </p>
      <ol className="font-dense text-lg">
        {stepWords(callout).map(([after, whom]) => (
          <li key={`${after} ${whom}`} className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3">
            <span className="text-ink-2">{after}</span>
            <span>{whom}</span>
          </li>
        ))}
        {callout.again && (
          <li className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3 text-ink-2">
            <span>then {callout.again} later</span>
            <span>all of it again, while nobody has it</span>
          </li>
        )}
      </ol>
      <p className="text-ink-2 text-sm">
        What belongs together within {callout.gather} is told together.
        {callout.digest && ` Warnings wait ${callout.digest} and are told together.`}
      </p>
      {drill !== undefined && <DrillReport number={drill} />}
      {problem && (
        <p role="alert" className="text-error">
          {problem}
        </p>
      )}
    </section>
  );
}

/** How a drill goes: who got it, how fast, who answered. */
function DrillReport({ number }: { number: number }) {
  const drill = useQuery({
    queryKey: ["drill", number],
    queryFn: () => got(api.GET("/api/v1/drills/{number}", { params: { path: { number } } })),
    refetchInterval: 1000,
  });
  if (!drill.data) return <p role="status">The practice incident is on its way …</p>;
  return (
    <div role="status" className="mt-2 border-primary border-l-4 pl-3">
      <p>
        <Link className="link" to={`/incidents/${drill.data.incident}`}>
          Practice incident {drill.data.incident}
        </Link>{" "}
        {drill.data.answered_by
          ? `answered by ${drill.data.answered_by} after ${duration(drill.data.answered_after ?? 0)}`
          : "is on its way; nobody has answered yet"}
      </p>
      <ul className="font-dense">
        {drill.data.told.map((told, i) => (
          <li key={i}>
            {told.person ? `${told.person} by ${told.channel}` : told.channel}:{" "}
            {told.seconds === null ? (
              <span className="text-error">{told.problem ?? "not through yet"}</span>
            ) : (
              `got it after ${told.seconds.toFixed(1)} s`
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** A callout as a sentence whose words are the controls. */
function Edit({ form, done }: { form: Form<CalloutForm>; done: () => void }) {
  const people = usePeople();
  const rotas = useQuery({ queryKey: ["rotas"], queryFn: () => got(api.GET("/api/v1/rotas")) });
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => got(api.GET("/api/v1/channels")) });
  const targets = [
    ...(rotas.data?.items ?? []).map((r) => `rota:${r.name}`),
    ...(people.data?.items ?? []).map((p) => `person:${p.name}`),
    ...(channels.data?.items ?? []).map((c) => `channel:${c.name}`),
  ];
  const send = async () => {
    await got(
      api.PUT("/api/v1/callouts/{name}", {
        params: { path: { name: form.values.name } },
        body: calloutOf(form.values),
      }),
    );
    done();
  };
  const count = Number(form.values.steps);
  return (
    <FormBox form={form} send={send} className="mb-5 border-base-300 border-l-4 pl-4" label="Callout">
      <div className="flex flex-wrap items-end gap-3">
        <TextField name="name" label="Name" width="w-48" required />
        <WhereField name="when" label="When" width="w-[36rem]" attributes={ATTRIBUTES} />
      </div>
      <div className="mt-3 flex flex-wrap items-center gap-x-1 text-lg leading-10">
        <ChoiceField
          name="always"
          label=""
          width="w-40"
          options={[
            ["yes", "at all hours"],
            ["no", "at these hours"],
          ]}
        />
        {form.values.always === "no" && (
          <>
            <span>from</span>
            <InlineText name="from" place="hours.from" label="Hours from" placeholder="18:00" />
            <span>to</span>
            <InlineText name="to" place="hours.to" label="Hours to" placeholder="08:00" />
            <span>in</span>
            <InlineText name="zone" place="hours.zone" label="Time zone" placeholder="Europe/Oslo" />
            <span>on</span>
            <TicksField name="days" legend="" options={DAYS} />
          </>
        )}
      </div>
      <ol className="mt-1">
        {Array.from({ length: count }, (_, i) => (
          <li key={i} className="flex flex-wrap items-center gap-x-1 text-lg leading-10">
            {i === 0 ? (
              <span>At once tell</span>
            ) : (
              <>
                <span>after</span>
                <InlineText
                  name={`after${i}`}
                  place={`steps.${i}.after`}
                  label={`Step ${i + 1} after`}
                  placeholder="10m"
                />
                <span>, unless somebody has it, tell</span>
              </>
            )}
            <InlineText
              name={`tell${i}`}
              place={`steps.${i}.tell`}
              label={`Step ${i + 1} tells`}
              placeholder="rota:NAME, person:NAME or channel:NAME"
              list="targets"
            />
          </li>
        ))}
      </ol>
      <datalist id="targets">
        {targets.map((target) => (
          <option key={target} value={target} />
        ))}
      </datalist>
      <div className="flex gap-2">
        {count < 10 && (
          <button type="button" className="btn btn-ghost btn-xs" onClick={() => form.set({ steps: String(count + 1) })}>
            Another step
          </button>
        )}
        {count > 1 && (
          <button type="button" className="btn btn-ghost btn-xs" onClick={() => form.set({ steps: String(count - 1) })}>
            Without the last step
          </button>
        )}
      </div>
      <p className="flex flex-wrap items-center gap-x-1 text-lg leading-10">
        <span>Tell all of it again</span>
        <InlineText name="again" label="Again after" placeholder="never, or 2h" />
        <span>later, while nobody has it. What belongs together within</span>
        <InlineText name="gather" label="Gathered within" placeholder="10s" />
        <span>is told together; warnings wait</span>
        <InlineText name="digest" label="Warnings wait" placeholder="not at all" />
      </p>
      <p className="text-ink-2 text-sm">
        There are {targets.join(", ") || "no channels, people or rotas yet"}. Several are parted by commas.
      </p>
      <div className="mt-2 flex gap-2">
        <Submit label="Keep the callout" />
        <button type="button" className="btn btn-ghost btn-sm" onClick={done}>
          Leave it
        </button>
      </div>
      <WentWrong />
    </FormBox>
  );
}

/** Who would be told if this happened, now or at another time. */
function Who() {
  const { now } = useSpan();
  const form = useForm({ severity: "critical", host: "", application: "", rule: "", at: "" });
  const [found, setFound] = useState<Schemas["WouldBeTold"][]>();
  const [asked, setAsked] = useState("");
  const send = async () => {
    const { severity, host, application, rule, at } = form.values;
    const answer = await got(
      api.POST("/api/v1/callouts/who", {
        body: {
          at: at ? (/^[-+]/.test(at) ? at : new Date(at).toISOString()) : "now",
          incident: {
            severity: severity as "critical",
            host: host || null,
            application: application || null,
            rule: rule || null,
          },
        },
      }),
    );
    setFound(answer.items);
    setAsked(at ? moment(unix(new Date(at).toISOString()), now) : "now");
  };
  return (
    <section aria-label="Who would be told">
      <h2 className="mb-2 font-semibold">Who would be told if this happened?</h2>
      <RowForm form={form} send={send} label="Ask">
        <ChoiceField name="severity" label="Severity" width="w-28" options={["critical", "warning"]} />
        <TextField name="host" label="On host" place="incident.host" width="w-40" />
        <TextField name="application" label="Touching application" place="incident.application" width="w-40" />
        <TextField name="rule" label="By rule" place="incident.rule" width="w-40" />
        <TextField name="at" label="At (now, or a date and time)" width="w-52" placeholder="2026-12-24 02:00" />
      </RowForm>
      {found && found.length === 0 && (
        <p role="alert" className="border-error border-l-4 pl-3 font-semibold text-error">
          Nobody would be told: no callout is for this.
        </p>
      )}
      {found && found.length > 0 && (
        <ol className="mb-4 font-dense text-lg" aria-label={`Told, asked for ${asked}`}>
          {found.map((one, i) => (
            <li
              key={i}
              className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3 md:grid-cols-[110px_220px_minmax(0,1fr)]"
            >
              <span className="text-ink-2">
                {one.after_seconds ? `after ${duration(one.after_seconds)}` : "at once"}
              </span>
              <span className={one.channel ? "" : "text-error"}>
                {one.channel ? (one.person ? `${one.person} by ${one.channel}` : one.channel) : "nobody"}
              </span>
              <span className="text-ink-2">
                {one.because}; {one.callout}, step {one.step}
              </span>
            </li>
          ))}
        </ol>
      )}
    </section>
  );
}
