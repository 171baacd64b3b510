import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { type CalloutForm, calloutOf, formOf } from "../lib/calloutForm";
import { DAYS } from "../lib/hours";
import { usePeople } from "../lib/queries";
import { AsText, type Typed } from "../ui/AsText";
import { ChoiceField, FormBox, Submit, TextField, TicksField, WentWrong } from "../ui/Form";
import { InlineText } from "../ui/Inline";
import type { Form } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";

const ATTRIBUTES = ["severity", "application", "host", "group", "site", "rule"];

/** Reads a callout in the service. */
const readCallout = (text: string) =>
  got(api.POST("/api/v1/callouts/read", { body: { text } })).then(({ callout, problems }) => ({
    document: problems.length === 0 && callout ? (callout as CalloutDocument) : undefined,
    problems,
  }));

type CalloutDocument = Schemas["CalloutDocument"];

/** A callout as a sentence whose words are the controls, or as text. */
export function CalloutEdit({ form, done }: { form: Form<CalloutForm>; done: () => void }) {
  const [typed, setTyped] = useState<Typed<CalloutDocument>>();
  const asText = () =>
    form.send(async () => {
      const document = { callout: form.values.name, ...calloutOf(form.values) };
      const { text } = await got(api.POST("/api/v1/callouts/written", { body: document }));
      setTyped({ text, isRead: true, document, problems: [] });
    });
  const asSentence = () => {
    if (!typed?.document) return;
    const { callout: name, ...said } = typed.document;
    form.set(formOf({ ...(said as Schemas["Callout"]), name }));
    setTyped(undefined);
  };
  const send = async () => {
    const { callout: name, ...body } = typed?.document ?? { callout: form.values.name, ...calloutOf(form.values) };
    await got(api.PUT("/api/v1/callouts/{name}", { params: { path: { name } }, body }));
    done();
  };
  return (
    <FormBox form={form} send={send} className="mb-5 border-base-300 border-l-4 pl-4" label="Callout">
      {typed ? (
        <>
          <button type="button" className="link mb-1 text-sm" disabled={!typed.document} onClick={asSentence}>
            As a sentence
          </button>
          <AsText
            typed={typed}
            change={setTyped}
            read={readCallout}
            label="The callout as text, in YAML"
            readOnly={false}
          />
        </>
      ) : (
        <>
          <Sentence form={form} />
          <button type="button" className="link text-sm" onClick={() => void asText()}>
            As text (YAML)
          </button>
        </>
      )}
      <div className="mt-2 flex gap-2">
        <Submit label="Keep the callout" disabled={typed !== undefined && !typed.document} />
        <button type="button" className="btn btn-ghost btn-sm" onClick={done}>
          Leave it
        </button>
      </div>
      <WentWrong />
    </FormBox>
  );
}

function Sentence({ form }: { form: Form<CalloutForm> }) {
  const people = usePeople();
  const rotas = useQuery({ queryKey: ["rotas"], queryFn: () => got(api.GET("/api/v1/rotas")) });
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => got(api.GET("/api/v1/channels")) });
  const targets = [
    ...(rotas.data?.items ?? []).map((r) => `rota:${r.name}`),
    ...(people.data?.items ?? []).map((p) => `person:${p.name}`),
    ...(channels.data?.items ?? []).map((c) => `channel:${c.name}`),
  ];
  const count = Number(form.values.steps);
  return (
    <>
      <div className="flex flex-wrap items-start gap-3">
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
    </>
  );
}
