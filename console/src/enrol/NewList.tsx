import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { plural } from "../lib/format";
import { BLANK_LIST, type ListForm, listOf, partedList } from "../lib/listForm";
import { AreaField, ChoiceField, FormBox, TextField, WentWrong } from "../ui/Form";
import { type Form, useForm } from "../ui/useForm";

const EXAMPLE = `gate-n4 192.0.2.44 role=gate
192.0.2.45:2222
198.51.100.16/29`;
const HOW =
  "One host a line: an address, or a name and an address; labels as key=value; ranges as 192.0.2.0/28 or " +
  "192.0.2.10-20. A first line that names columns makes it a CSV.";

/** A list is pasted or opened, read, and shown as it was understood; then what of it is good is tested. */
export function NewList() {
  const navigate = useNavigate();
  const form = useForm<ListForm>(BLANK_LIST);
  const [read, setRead] = useState<Schemas["ListAnswer"]>();
  const [started, setStarted] = useState<{ id: number; total: number }>();
  const changed = {
    ...form,
    set: (change: Partial<ListForm>) => {
      form.set(change);
      setRead(undefined);
    },
  };
  const look = async () => {
    setStarted(undefined);
    setRead(await got(api.POST("/api/v1/enrolments/read", { body: listOf(form.values) })));
  };
  const start = async () => {
    if (!read) return;
    const answer = await got(api.POST("/api/v1/enrolments", { body: { entries: read.entries, time_limit: "5s" } }));
    if (!read.problems.length) return navigate(`/enrol/${answer.id}`);
    // What could not be read stays, to be corrected.
    form.set({ text: partedList(read).left });
    setRead({ ...read, entries: [] });
    return setStarted(answer);
  };
  return (
    <section aria-label="A list of addresses" className="mb-6 max-w-5xl">
      <FormBox form={changed} send={look}>
        <div className="grid gap-6 md:grid-cols-[1fr_260px]">
          <AreaField name="text" label={HOW} mono placeholder={EXAMPLE} width="h-44 w-full" />
          <ReadWith form={form} />
        </div>
        <Actions form={changed} read={read} look={look} start={start} />
        <WentWrong />
      </FormBox>
      {started && (
        <p role="status" className="mt-2">
          {plural(started.total, "host")} {started.total === 1 ? "is" : "are"} being tested:{" "}
          <Link className="link" to={`/enrol/${started.id}`}>
            see how it goes
          </Link>
        </p>
      )}
      {read && <Understood read={read} />}
    </section>
  );
}

/** With what, into which group, and from where the hosts are read. */
function ReadWith({ form }: { form: Form<ListForm> }) {
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const relays = useQuery({ queryKey: ["relays"], queryFn: () => got(api.GET("/api/v1/relays")) });
  const fitting = (credentials.data?.items ?? []).filter((c) => c.kind === form.values.protocol);
  const sites = [...new Set((relays.data?.items ?? []).map((r) => r.site).filter((s) => s !== null))];
  return (
    <div className="flex flex-col gap-2">
      <ChoiceField
        name="protocol"
        label="Read over"
        options={[
          ["ssh", "SSH: servers"],
          ["snmp", "SNMP: devices"],
        ]}
      />
      <ChoiceField
        name="credential"
        label="Credential"
        options={[
          ["", "as the list says"],
          ...fitting.map(
            (c) => [c.name, `${c.name}, ${String(c.settings.user ?? `SNMP ${String(c.settings.version)}`)}`] as const,
          ),
        ]}
      />
      {credentials.data && fitting.length === 0 && (
        <Link className="link text-sm" to="/settings/credentials">
          Make a credential for {form.values.protocol === "ssh" ? "SSH" : "SNMP"} first
        </Link>
      )}
      <TextField name="group" label="They join the group" placeholder="none" />
      {sites.length > 0 && (
        <ChoiceField
          name="site"
          label="Tested and read by"
          options={[["", "this console"], ...sites.map((s) => [s, `the relays at ${s}`] as const)]}
        />
      )}
    </div>
  );
}

function Actions({
  form,
  read,
  look,
  start,
}: {
  form: Form<ListForm>;
  read: Schemas["ListAnswer"] | undefined;
  look: () => Promise<void>;
  start: () => Promise<void>;
}) {
  const file = useRef<HTMLInputElement>(null);
  const { good, bad } = read ? partedList(read) : { good: 0, bad: 0 };
  return (
    <div className="mt-2 flex flex-wrap items-center gap-3">
      <input
        ref={file}
        type="file"
        accept=".csv,.txt,text/*"
        className="hidden"
        aria-label="A file with the list"
        onChange={(e) => {
          const chosen = e.target.files?.[0];
          if (chosen) void form.send(() => chosen.text().then((text) => form.set({ text })));
        }}
      />
      <button type="button" className="btn btn-sm" onClick={() => file.current?.click()}>
        Open a file
      </button>
      <button
        type="button"
        className="btn btn-sm"
        disabled={form.busy || !form.values.text.trim()}
        onClick={() => void form.send(look)}
      >
        Read the list
      </button>
      <button
        type="button"
        className="btn btn-primary btn-sm"
        disabled={form.busy || good === 0}
        onClick={() => void form.send(start)}
      >
        {good ? `Test ${plural(good, "host")}` : "Test them"}
      </button>
      {bad > 0 && (
        <span className="text-sm text-state-warning">
          {good
            ? "What is said below is left in the box, to be corrected"
            : "Correct the text above, then read it again"}
        </span>
      )}
    </div>
  );
}

function Understood({ read }: { read: Schemas["ListAnswer"] }) {
  const shown = read.entries.slice(0, 12);
  return (
    <div className="mt-3 font-dense" role="status">
      {read.problems.map((p) => (
        <p key={p.line} className="border-base-300 border-b py-1">
          <span className="font-semibold text-state-warning">
            {(p.lines ?? 1) > 1 ? plural(p.lines ?? 1, "line") : `line ${p.line}`}
          </span>
          {(p.lines ?? 1) === 1 && <code className="text-ink-2"> {p.text}</code>}: {p.problem}
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
