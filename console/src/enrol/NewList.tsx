import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { plural } from "../lib/format";
import { Box } from "../settings/parts";
import { Failure } from "../ui/Note";

const EXAMPLE = `gate-n4 192.0.2.44 role=gate
192.0.2.45:2222
198.51.100.16/29`;

/** A list is pasted or opened, read, and shown as it was understood; then it is tested. */
export function NewList() {
  const navigate = useNavigate();
  const file = useRef<HTMLInputElement>(null);
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const relays = useQuery({ queryKey: ["relays"], queryFn: () => got(api.GET("/api/v1/relays")) });
  const [form, setForm] = useState({
    text: "",
    protocol: "ssh" as "ssh" | "snmp",
    credential: "",
    group: "",
    site: "",
  });
  const [read, setRead] = useState<Schemas["ListAnswer"]>();
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const set = (change: Partial<typeof form>) => {
    setForm((held) => ({ ...held, ...change }));
    setRead(undefined);
  };
  const fitting = (credentials.data?.items ?? []).filter((c) => c.kind === form.protocol);
  const sites = [...new Set((relays.data?.items ?? []).map((r) => r.site).filter((s) => s !== null))];
  const during = (work: () => Promise<void>) => {
    setBusy(true);
    setError(undefined);
    work()
      .catch(setError)
      .finally(() => setBusy(false));
  };
  const look = () =>
    during(async () => {
      const answer = await got(
        api.POST("/api/v1/enrolments/read", {
          body: {
            text: form.text,
            protocol: form.protocol,
            credential: form.credential || null,
            group: form.group || null,
            site: form.site || null,
          },
        }),
      );
      setRead(answer);
    });
  const start = () =>
    during(async () => {
      if (!read) return;
      const answer = await got(api.POST("/api/v1/enrolments", { body: { entries: read.entries, time_limit: "5s" } }));
      await navigate(`/enrol/${answer.id}`);
    });
  return (
    <section aria-label="A list of addresses" className="mb-6 max-w-5xl">
      <div className="grid grid-cols-[1fr_260px] gap-6">
        <div>
          <label className="mb-1 block text-sm" htmlFor="list-text">
            One host a line: an address, or a name and an address; labels as key=value; ranges as 192.0.2.0/28 or
            192.0.2.10-20. A first line that names columns makes it a CSV.
          </label>
          <textarea
            id="list-text"
            className="textarea h-44 w-full font-mono text-sm"
            spellCheck={false}
            placeholder={EXAMPLE}
            value={form.text}
            onChange={(e) => set({ text: e.target.value })}
          />
          <input
            ref={file}
            type="file"
            accept=".csv,.txt,text/*"
            className="hidden"
            aria-label="A file with the list"
            onChange={(e) => {
              e.target.files?.[0]
                ?.text()
                .then((text) => set({ text }))
                .catch(setError);
            }}
          />
        </div>
        <div className="flex flex-col gap-2">
          <Box label="Read over">
            <select
              className="select select-sm"
              value={form.protocol}
              onChange={(e) => set({ protocol: e.target.value as "ssh" | "snmp", credential: "" })}
            >
              <option value="ssh">SSH: servers</option>
              <option value="snmp">SNMP: devices</option>
            </select>
          </Box>
          <Box label="Credential">
            <select
              className="select select-sm"
              value={form.credential}
              onChange={(e) => set({ credential: e.target.value })}
            >
              <option value="">as the list says</option>
              {fitting.map((c) => (
                <option key={c.name} value={c.name}>
                  {c.name}, {String(c.settings.user ?? `SNMP ${String(c.settings.version)}`)}
                </option>
              ))}
            </select>
          </Box>
          {credentials.data && fitting.length === 0 && (
            <Link className="link text-sm" to="/settings/credentials">
              Make a credential for {form.protocol === "ssh" ? "SSH" : "SNMP"} first
            </Link>
          )}
          <Box label="They join the group">
            <input
              className="input input-sm"
              value={form.group}
              placeholder="none"
              onChange={(e) => set({ group: e.target.value })}
            />
          </Box>
          {sites.length > 0 && (
            <Box label="Tested and read by">
              <select className="select select-sm" value={form.site} onChange={(e) => set({ site: e.target.value })}>
                <option value="">this console</option>
                {sites.map((s) => (
                  <option key={s} value={s}>
                    the relays at {s}
                  </option>
                ))}
              </select>
            </Box>
          )}
        </div>
      </div>
      <div className="mt-2 flex items-center gap-3">
        <button type="button" className="btn btn-sm" onClick={() => file.current?.click()}>
          Open a file
        </button>
        <button type="button" className="btn btn-sm" disabled={busy || !form.text.trim()} onClick={look}>
          Read the list
        </button>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={busy || !read || read.entries.length === 0 || read.problems.length > 0}
          onClick={start}
        >
          {read && !read.problems.length ? `Test ${plural(read.entries.length, "host")}` : "Test them"}
        </button>
        {read && read.problems.length > 0 && (
          <span className="text-sm text-state-warning">
            {plural(read.problems.length, "line")} cannot be read: correct the text above, then read the list again
          </span>
        )}
      </div>
      {error !== undefined && <Failure error={error} />}
      {read && <Understood read={read} />}
    </section>
  );
}

function Understood({ read }: { read: Schemas["ListAnswer"] }) {
  const shown = read.entries.slice(0, 12);
  return (
    <div className="mt-3 font-dense" role="status">
      {read.problems.map((p) => (
        <p key={p.line} className="border-base-300 border-b py-1">
          <span className="font-semibold text-state-warning">line {p.line}</span>{" "}
          <code className="text-ink-2">{p.text}</code>: {p.problem}
        </p>
      ))}
      {shown.map((e, i) => (
        <p key={i} className="border-base-300 border-b py-1">
          <span className="font-semibold">{e.name ?? "by the name it gives itself"}</span> at {e.address}
          {e.port ? ` port ${e.port}` : ""}{" "}
          <span className="text-ink-2">
            over {e.protocol.toUpperCase()} with {e.credential}
          </span>{" "}
          {Object.entries(e.labels ?? {})
            .map(([k, v]) => `${k}=${v}`)
            .join(" ")}
        </p>
      ))}
      {read.entries.length > shown.length && (
        <p className="py-1 text-ink-2">and {read.entries.length - shown.length} more</p>
      )}
    </div>
  );
}
