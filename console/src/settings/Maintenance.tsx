import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, plural, unix } from "../lib/format";
import { HERE } from "../lib/hours";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";

/** Times in which what goes wrong is kept, and nobody is told. */
export function Component() {
  const client = useQueryClient();
  const may = useMay("operator");
  const windows = useQuery({
    queryKey: ["maintenance"],
    queryFn: () => got(api.GET("/api/v1/maintenance")),
    refetchInterval: 10_000,
  });
  const again = () => client.invalidateQueries({ queryKey: ["maintenance"] });
  if (windows.isError) return <Failure error={windows.error} />;
  if (!windows.data) return <Waiting what="the maintenance windows" />;
  return (
    <>
      {may && <NewWindow again={again} />}
      {windows.data.items.length === 0 ? (
        <Empty title="No maintenance windows">
          In a window, states are paused and alerts are kept. What is still wrong at its end is told then, once.
        </Empty>
      ) : (
        <div className="hairline border-base-300 border-y">
          {windows.data.items.map((one) => (
            <OneWindow key={one.name} window={one} again={again} />
          ))}
        </div>
      )}
      <p className="mt-3 text-ink-2 text-sm">
        Programs that show calendars read <code>/api/v1/maintenance.ics?token=…</code> with a token of the role calendar
        (Settings, Tokens).
      </p>
    </>
  );
}

function OneWindow({ window: one, again }: { window: Schemas["Window"]; again: () => Promise<unknown> }) {
  const { now } = useSpan();
  const may = useMay("operator");
  const [problem, setProblem] = useState("");
  const path = { name: one.name };
  const act = (work: Promise<unknown>) => {
    work.then(again).catch((error: Error) => setProblem(error.message));
  };
  const what = [
    ...one.hosts,
    ...one.groups.map((g) => `group ${g}`),
    ...one.applications.map((a) => `application ${a}`),
    ...(one.where ? [one.where] : []),
  ].join(", ");
  return (
    <section
      className="grid grid-cols-[24px_minmax(0,1fr)_auto] items-start gap-x-3 py-2 font-dense"
      aria-label={one.name}
    >
      <Signal state={one.going_on ? "paused" : "ok"} size={18} label={one.going_on ? "goes on" : "not now"} />
      <span className="min-w-0">
        <strong className="text-lg">{one.about}</strong> <span className="text-ink-2">{one.name}</span>
        <span className="block">
          {one.going_on
            ? `goes on until ${one.ends_at ? moment(unix(one.ends_at), now) : "?"}, ${plural(one.paused, "host")} in it`
            : one.starts_at
              ? `next from ${moment(unix(one.starts_at), now)} to ${one.ends_at ? moment(unix(one.ends_at), now) : "?"}`
              : "is over"}
          {one.repeat && (
            <span className="text-ink-2">
              {" "}
              · again and again: {one.repeat}, {one.zone}
            </span>
          )}
        </span>
        <span className="block text-ink-2">
          {what} · by {one.updated_by}
        </span>
        {problem && (
          <span role="alert" className="block text-error">
            {problem}
          </span>
        )}
      </span>
      <span className="text-right">
        {may && one.going_on && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => act(got(api.POST("/api/v1/maintenance/{name}/end", { params: { path } })))}
          >
            End it now
          </button>
        )}
        {may && (
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            onClick={() => act(got(api.DELETE("/api/v1/maintenance/{name}", { params: { path } })))}
          >
            Delete
          </button>
        )}
      </span>
    </section>
  );
}

const list = (text: string) =>
  text
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);

function NewWindow({ again }: { again: () => Promise<unknown> }) {
  const blank = {
    name: "",
    about: "",
    hosts: "",
    groups: "",
    applications: "",
    where: "",
    from: "",
    for: "2h",
    repeat: "",
  };
  const form = useForm(blank);
  const send = async () => {
    const v = form.values;
    await got(
      api.PUT("/api/v1/maintenance/{name}", {
        params: { path: { name: v.name } },
        body: {
          about: v.about,
          hosts: list(v.hosts),
          groups: list(v.groups),
          applications: list(v.applications),
          where: v.where || null,
          from: v.from ? new Date(v.from).toISOString() : "now",
          for: v.for,
          repeat: v.repeat || null,
          zone: HERE,
        },
      }),
    );
    form.set(blank);
    await again();
  };
  return (
    <RowForm
      form={form}
      send={send}
      label="Keep the window"
      note={`Times are those of ${HERE}. Names are parted by commas.`}
    >
      <TextField name="name" label="Name" width="w-36" required />
      <TextField name="about" label="What is done" width="w-56" required />
      <TextField name="hosts" label="Hosts" width="w-48" />
      <TextField name="groups" label="Groups" width="w-40" />
      <TextField name="applications" label="Applications" width="w-40" />
      <WhereField name="where" label="Hosts that pass" width="w-64" attributes={["group", "os", "mode"]} />
      <TextField name="from" label="From (now)" width="w-44" placeholder="2026-12-05 02:00" />
      <TextField name="for" label="For" width="w-20" required />
      <TextField name="repeat" label="Again and again (RFC 5545)" width="w-56" placeholder="FREQ=WEEKLY;BYDAY=SA" />
    </RowForm>
  );
}
