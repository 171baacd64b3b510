import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { BLANK_CHANNEL, type ChannelForm, channelOf, words } from "../lib/channelForm";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";
import { Line, Listing } from "./parts";

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
          Until there is one, and a callout that uses it, alerts are seen only here.
        </Empty>
      ) : (
        <Listing columns={["channel", "kind", "to", "last result", ""]}>
          {channels.data.items.map((c) => (
            <Line
              key={c.name}
              cells={[
                c.name,
                c.kind,
                String(c.settings.url ?? (c.settings.to as string[] | undefined)?.join(", ") ?? ""),
                result[c.name] ??
                  (c.last_at ? `${c.last_result}, ${moment(unix(c.last_at), now)}` : "nothing sent yet"),
              ]}
              action={
                <>
                  <button type="button" className="btn btn-ghost btn-xs" onClick={() => attempt(c.name)}>
                    Send a test
                  </button>
                  {may && (
                    <button
                      type="button"
                      className="btn btn-ghost btn-xs"
                      onClick={() => {
                        got(api.DELETE("/api/v1/channels/{name}", { params: { path: { name: c.name } } }))
                          .then(again)
                          .catch((error: Error) => setResult((held) => ({ ...held, [c.name]: error.message })));
                      }}
                    >
                      Delete
                    </button>
                  )}
                </>
              }
            />
          ))}
        </Listing>
      )}
      <h2 className="mt-8 mb-2 font-semibold">Callouts</h2>
      <Callouts channels={channels.data.items.map((c) => c.name)} may={may} />
    </>
  );
}

const KINDS = ["webhook", "email"];

function NewChannel({ again }: { again: () => Promise<void> }) {
  const form = useForm<ChannelForm>(BLANK_CHANNEL);
  const webhook = form.values.kind === "webhook";
  const send = async () => {
    const path = { name: form.values.name };
    await got(api.PUT("/api/v1/channels/{name}", { params: { path }, body: channelOf(form.values) }));
    form.set({ name: "", secret: "" });
    await again();
  };
  return (
    <RowForm
      form={form}
      send={send}
      label="Keep the channel"
      note="A webhook gets each alert as a CloudEvent by POST. Secrets are kept encrypted and never shown again."
    >
      <TextField name="name" label="Name" width="w-36" required />
      <ChoiceField name="kind" label="Kind" width="w-28" options={KINDS} />
      {webhook ? <TextField name="url" label="URL" type="url" width="w-80" required /> : <MailFields />}
      <TextField
        name="secret"
        label={webhook ? "Bearer token" : "Password"}
        place={webhook ? "bearer" : "password"}
        type="password"
        width="w-36"
      />
    </RowForm>
  );
}

function MailFields() {
  return (
    <>
      <TextField name="to" label="To" width="w-64" required placeholder="duty@skerry.example" />
      <TextField name="server" label="Mail server" width="w-36" />
      <TextField name="port" label="Port" type="number" width="w-20" />
      <ChoiceField name="security" label="Security" width="w-28" options={["starttls", "tls", "none"]} />
      <TextField name="user" label="User" width="w-32" />
    </>
  );
}

function Callouts({ channels, may }: { channels: string[]; may: boolean }) {
  const client = useQueryClient();
  const callouts = useQuery({ queryKey: ["callouts"], queryFn: () => got(api.GET("/api/v1/callouts")) });
  const form = useForm({ name: "", when: 'severity ge "warning"', tell: "" });
  const again = () => client.invalidateQueries({ queryKey: ["callouts"] });
  const send = async () => {
    const { name, when, tell } = form.values;
    await got(api.PUT("/api/v1/callouts/{name}", { params: { path: { name } }, body: { when, tell: words(tell) } }));
    form.set({ name: "" });
    await again();
  };
  return (
    <>
      {may && channels.length > 0 && (
        <RowForm
          form={form}
          send={send}
          label="Keep the callout"
          note={`Channels there are: ${channels.join(", ")}. The filter may ask for severity, rule, host, metric and the alert's attributes.`}
        >
          <TextField name="name" label="Name" width="w-36" required />
          <WhereField name="when" label="When" width="w-[36rem]" required attributes={["rule", "state"]} />
          <TextField name="tell" label="Tell" width="w-48" required list="channels" />
          <datalist id="channels">
            {channels.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </RowForm>
      )}
      {callouts.data?.items.length === 0 && (
        <Empty title="No callouts yet">A callout says who is told of what: without one, nobody is.</Empty>
      )}
      {callouts.data && callouts.data.items.length > 0 && (
        <Listing columns={["callout", "when", "tell", ""]}>
          {callouts.data.items.map((c) => (
            <Line
              key={c.name}
              cells={[c.name, <code key="when">{c.when}</code>, c.tell.join(", ")]}
              action={
                may && (
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs"
                    onClick={() => {
                      got(api.DELETE("/api/v1/callouts/{name}", { params: { path: { name: c.name } } }))
                        .then(again)
                        .catch(() => again());
                    }}
                  >
                    Delete
                  </button>
                )
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}
