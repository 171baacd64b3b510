import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Box, Line, Listing, Sending } from "./parts";

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

function NewChannel({ again }: { again: () => Promise<void> }) {
  const [form, setForm] = useState({
    name: "",
    kind: "webhook",
    url: "",
    to: "",
    server: "127.0.0.1",
    port: "25",
    security: "starttls",
    user: "",
    secret: "",
  });
  const set = (change: Partial<typeof form>) => setForm((held) => ({ ...held, ...change }));
  const send = async () => {
    const body =
      form.kind === "webhook"
        ? { kind: "webhook" as const, url: form.url, bearer: form.secret || null }
        : {
            kind: "email" as const,
            to: form.to.split(/[\s,]+/).filter(Boolean),
            sender: "balise@localhost.localdomain",
            server: form.server,
            port: Number(form.port),
            security: form.security as "starttls",
            user: form.user || null,
            password: form.secret || null,
          };
    await got(api.PUT("/api/v1/channels/{name}", { params: { path: { name: form.name } }, body }));
    set({ name: "", secret: "" });
    await again();
  };
  return (
    <Sending
      send={send}
      label="Keep the channel"
      note="A webhook gets each alert as a CloudEvent by POST. Secrets are kept encrypted and never shown again."
    >
      <Box label="Name">
        <input
          className="input input-sm w-36"
          required
          value={form.name}
          onChange={(e) => set({ name: e.target.value })}
        />
      </Box>
      <Box label="Kind">
        <select className="select select-sm w-28" value={form.kind} onChange={(e) => set({ kind: e.target.value })}>
          <option value="webhook">webhook</option>
          <option value="email">email</option>
        </select>
      </Box>
      {form.kind === "webhook" ? (
        <Box label="URL">
          <input
            className="input input-sm w-80"
            type="url"
            required
            value={form.url}
            onChange={(e) => set({ url: e.target.value })}
          />
        </Box>
      ) : (
        <>
          <Box label="To">
            <input
              className="input input-sm w-64"
              required
              value={form.to}
              onChange={(e) => set({ to: e.target.value })}
              placeholder="duty@skerry.example"
            />
          </Box>
          <Box label="Mail server">
            <input
              className="input input-sm w-36"
              value={form.server}
              onChange={(e) => set({ server: e.target.value })}
            />
          </Box>
          <Box label="Port">
            <input
              className="input input-sm w-20"
              type="number"
              value={form.port}
              onChange={(e) => set({ port: e.target.value })}
            />
          </Box>
          <Box label="Security">
            <select
              className="select select-sm w-28"
              value={form.security}
              onChange={(e) => set({ security: e.target.value })}
            >
              <option>starttls</option>
              <option>tls</option>
              <option>none</option>
            </select>
          </Box>
          <Box label="User">
            <input className="input input-sm w-32" value={form.user} onChange={(e) => set({ user: e.target.value })} />
          </Box>
        </>
      )}
      <Box label={form.kind === "webhook" ? "Bearer token" : "Password"}>
        <input
          className="input input-sm w-36"
          type="password"
          autoComplete="new-password"
          value={form.secret}
          onChange={(e) => set({ secret: e.target.value })}
        />
      </Box>
    </Sending>
  );
}

function Callouts({ channels, may }: { channels: string[]; may: boolean }) {
  const client = useQueryClient();
  const callouts = useQuery({ queryKey: ["callouts"], queryFn: () => got(api.GET("/api/v1/callouts")) });
  const [form, setForm] = useState({ name: "", when: 'severity ge "warning"', tell: "" });
  const again = () => client.invalidateQueries({ queryKey: ["callouts"] });
  const send = async () => {
    await got(
      api.PUT("/api/v1/callouts/{name}", {
        params: { path: { name: form.name } },
        body: { when: form.when, tell: form.tell.split(/[\s,]+/).filter(Boolean) },
      }),
    );
    setForm({ ...form, name: "" });
    await again();
  };
  return (
    <>
      {may && channels.length > 0 && (
        <Sending
          send={send}
          label="Keep the callout"
          note={`Channels there are: ${channels.join(", ")}. The filter may ask for severity, rule, host, metric and the alert's attributes.`}
        >
          <Box label="Name">
            <input
              className="input input-sm w-36"
              required
              value={form.name}
              onChange={(e) => setForm({ ...form, name: e.target.value })}
            />
          </Box>
          <Box label="When">
            <input
              className="input input-sm w-96 font-dense"
              required
              value={form.when}
              onChange={(e) => setForm({ ...form, when: e.target.value })}
            />
          </Box>
          <Box label="Tell">
            <input
              className="input input-sm w-48"
              required
              value={form.tell}
              list="channels"
              onChange={(e) => setForm({ ...form, tell: e.target.value })}
            />
          </Box>
          <datalist id="channels">
            {channels.map((c) => (
              <option key={c} value={c} />
            ))}
          </datalist>
        </Sending>
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
