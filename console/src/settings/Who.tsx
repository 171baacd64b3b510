import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { duration, moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { useForm } from "../ui/useForm";

/** Who would be told if this happened, now or at another time. */
export function Who() {
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
