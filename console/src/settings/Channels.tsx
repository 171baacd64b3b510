import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { BLANK_CHANNEL, CHANNEL_KINDS, type ChannelForm, channelOf, placeOf } from "../lib/channelForm";
import { moment, plural, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { AreaField, ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing, Remove } from "./parts";

export function Component() {
  const client = useQueryClient();
  const may = useMay("administrator");
  const { now } = useSpan();
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => got(api.GET("/api/v1/channels")) });
  const [result, setResult] = useState<Record<string, string>>({});
  const again = () => client.invalidateQueries({ queryKey: ["channels"] });
  const attempt = (name: string) => {
    setResult((held) => ({ ...held, [name]: "trying …" }));
    got(api.POST("/api/v1/channels/{name}/test", { params: { path: { name } } }))
      .then((answer) => answer.detail)
      .catch((error: Error) => error.message)
      .then((text) => setResult((held) => ({ ...held, [name]: text })))
      .then(again)
      .catch(() => undefined);
  };
  if (channels.isError) return <Failure error={channels.error} />;
  if (!channels.data) return <Waiting what="the channels" />;
  return (
    <>
      <h2 className="mb-2 font-semibold">Channels</h2>
      {may && <NewChannel again={again} />}
      {channels.data.items.length === 0 ? (
        <Empty title="No channels yet">
          Until there is one, and a callout that uses it, what is wrong is seen only here.
        </Empty>
      ) : (
        <Listing columns={["channel", "kind", "to", "last result", ""]}>
          {channels.data.items.map((c) => (
            <Line
              key={c.name}
              cells={[
                c.name,
                c.kind,
                placeOf(c),
                <span key="result">
                  {result[c.name] ??
                    (c.last_at ? `${c.last_result}, ${moment(unix(c.last_at), now)}` : "nothing sent yet")}
                  {c.circuit === "open" && (
                    <strong className="block text-error">
                      it fails again and again: {plural(c.waiting, "message")} wait
                    </strong>
                  )}
                </span>,
              ]}
              action={
                <>
                  <button type="button" className="btn btn-ghost btn-xs" onClick={() => attempt(c.name)}>
                    Send a test
                  </button>
                  {may && (
                    <Remove
                      work={() => got(api.DELETE("/api/v1/channels/{name}", { params: { path: { name: c.name } } }))}
                      done={again}
                      failed={(why) => setResult((held) => ({ ...held, [c.name]: why }))}
                    />
                  )}
                </>
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}

const NOTES: Record<string, string> = {
  webhook: "Each incident as a CloudEvent by POST, signed as Standard Webhooks says; or a body of your own.",
  email: "Mails of one incident are one thread, with a picture and a link to act.",
  sms: "One request to the gateway for each number.",
  syslog: "One line of RFC 5424. Nobody can act by it, so it has no link that lets anybody.",
  snmp: "Notifications as BALISE-MIB says, confirmed by whoever gets them.",
  command: "A program on the console's machine, if the service was started so that channels may run programs.",
};

function NewChannel({ again }: { again: () => Promise<void> }) {
  const form = useForm<ChannelForm>(BLANK_CHANNEL);
  const kind = form.values.kind;
  const send = async () => {
    const path = { name: form.values.name };
    await got(api.PUT("/api/v1/channels/{name}", { params: { path }, body: channelOf(form.values) }));
    form.reset({ kind });
    await again();
  };
  return (
    <RowForm
      form={form}
      send={send}
      label="Keep the channel"
      note={`${NOTES[kind]} Secrets are kept encrypted and never shown again.`}
    >
      <TextField name="name" label="Name" width="w-36" required />
      <ChoiceField name="kind" label="Kind" width="w-28" options={CHANNEL_KINDS} />
      {kind === "webhook" && (
        <>
          <TextField name="url" label="URL" type="url" width="w-80" required />
          <TextField name="secret" label="Bearer token" place="bearer" type="password" width="w-36" />
          <TextField name="signing" label="Signing secret" place="signing_secret" type="password" width="w-36" />
          <ChoiceField
            name="of"
            label="Of"
            width="w-44"
            options={[
              ["incidents", "incidents"],
              ["alerts", "each alert by itself"],
            ]}
          />
          <AreaField name="template" label="Body of your own (Jinja2)" width="w-96" rows={2} mono />
        </>
      )}
      {kind === "email" && (
        <>
          <TextField name="to" label="To" width="w-64" required placeholder="duty@skerry.example" />
          <TextField name="server" label="Mail server" width="w-36" />
          <TextField name="port" label="Port" type="number" width="w-20" placeholder="25" />
          <ChoiceField name="security" label="Security" width="w-28" options={["starttls", "tls", "none"]} />
          <TextField name="user" label="User" width="w-32" />
          <TextField name="secret" label="Password" place="password" type="password" width="w-36" />
        </>
      )}
      {kind === "sms" && (
        <>
          <TextField name="url" label="URL of the gateway" place="url" type="url" width="w-72" required />
          <TextField name="to" label="Numbers" width="w-48" required placeholder="+4799999999" />
          <TextField name="secret" label="Bearer token" place="bearer" type="password" width="w-36" />
        </>
      )}
      {kind === "syslog" && (
        <>
          <TextField name="server" label="Server" width="w-48" required />
          <TextField name="port" label="Port" type="number" width="w-20" placeholder="514" />
          <ChoiceField name="transport" label="Transport" width="w-24" options={["udp", "tcp", "tls"]} />
        </>
      )}
      {kind === "snmp" && (
        <>
          <TextField name="server" label="Server" width="w-48" required />
          <TextField name="port" label="Port" type="number" width="w-20" placeholder="162" />
          <ChoiceField name="version" label="Version" width="w-20" options={["v3", "v2c"]} />
          {form.values.version === "v2c" ? (
            <TextField name="secret" label="Community" place="community" type="password" width="w-36" required />
          ) : (
            <>
              <TextField name="user" label="User" width="w-32" required />
              <TextField name="secret" label="Signing" place="authentication" type="password" width="w-36" />
              <TextField name="privacy" label="Encryption" place="privacy" type="password" width="w-36" />
            </>
          )}
        </>
      )}
      {kind === "command" && <TextField name="arguments" label="Program and arguments" width="w-96" required mono />}
    </RowForm>
  );
}
