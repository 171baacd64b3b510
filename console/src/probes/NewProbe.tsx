import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { withUnit } from "../lib/format";
import { askedOf, BLANK_PROBE, PROBE_KINDS, type ProbeForm, probeOf } from "../lib/probeForm";
import { ChoiceField, FormBox, Submit, TextField, TicksField, WentWrong } from "../ui/Form";
import { StateWord } from "../ui/Signal";
import { type Form, useForm } from "../ui/useForm";

/** A probe is filled in, tried as often as one likes, and kept. */
export function NewProbe({ done }: { done: () => void }) {
  const client = useQueryClient();
  const form = useForm<ProbeForm>(BLANK_PROBE);
  const name = form.values.probe.trim();
  const keep = async () => {
    await got(api.PUT("/api/v1/probes/{name}", { params: { path: { name } }, body: probeOf(form.values) }));
    await client.invalidateQueries({ queryKey: ["probes"] });
    done();
  };
  return (
    <FormBox
      form={form}
      send={keep}
      label="A new probe"
      className="mb-4 grid max-w-4xl gap-x-5 gap-y-2 border-base-300 border-y py-3 md:grid-cols-3"
    >
      <Fields form={form} />
      <div className="flex flex-wrap items-center gap-3 md:col-span-3">
        <Submit label="Keep it" />
        <Attempt form={form} />
      </div>
      <div className="md:col-span-3">
        <WentWrong />
      </div>
    </FormBox>
  );
}

function Fields({ form }: { form: Form<ProbeForm> }) {
  const relays = useQuery({ queryKey: ["relays"], queryFn: () => got(api.GET("/api/v1/relays")) });
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const asked = askedOf(form.values.kind);
  const logins = (credentials.data?.items ?? []).filter((c) => c.kind === "login").map((c) => c.name);
  const redis = form.values.kind === "redis";
  return (
    <>
      <ChoiceField name="kind" label="What is asked" options={PROBE_KINDS} />
      <TextField
        name="target"
        label={asked.url ? "URL" : "Address and port"}
        className="md:col-span-2"
        required
        placeholder={asked.url ? "https://times.skerry.example/" : "192.0.2.17:25"}
      />
      <TextField name="probe" label="Name of the probe" required />
      <TextField name="every" label="Every" />
      <TextField name="limit" label="Time limit" place="time_limit" />
      {asked.name && <TextField name="name" label="Name to ask for" place="target.name" required />}
      {asked.query && (
        <>
          <TextField
            name="query"
            label="Query"
            className="md:col-span-2"
            placeholder={redis ? "PING" : "select 41 + 1"}
          />
          <TextField name="value" label="Its first value has to be" place="expect.value" />
        </>
      )}
      {asked.text && <TextField name="text" label="The answer has in it" place="expect.text" />}
      <ChoiceField name="credential" label="Sign in with" options={[["", "nothing"], ...logins]} />
      {(relays.data?.items.length ?? 0) > 0 && (
        <TicksField
          name="from"
          legend="From (the console, when none is marked)"
          options={(relays.data?.items ?? []).map((r) => r.name)}
        />
      )}
    </>
  );
}

/** Makes the probe once, and says what came of it. */
function Attempt({ form }: { form: Form<ProbeForm> }) {
  const [tried, setTried] = useState<Schemas["ProbeResult"]>();
  const name = form.values.probe.trim() || "new";
  const attempt = async () => {
    setTried(undefined);
    const body = probeOf(form.values);
    setTried(await got(api.POST("/api/v1/probes/{name}/try", { params: { path: { name } }, body })));
  };
  return (
    <>
      <button
        type="button"
        className="btn btn-sm"
        disabled={form.busy || !form.values.target.trim()}
        onClick={() => void form.send(attempt)}
      >
        Try it once
      </button>
      {tried && (
        <span role="status">
          <StateWord state={tried.good ? (tried.warning ? "warning" : "ok") : "critical"} /> in{" "}
          {withUnit(tried.seconds, "s")}: {tried.message}
        </span>
      )}
    </>
  );
}
