import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import type { components } from "../api/schema";
import { moment, plural, share, unix, withUnit } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Failure } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing, Remove, Wrong } from "./parts";

type Data = components["schemas"]["DataAnswer"];
type Export = components["schemas"]["Export"];

const KINDS: Record<Data["sizes"][number]["kind"], string> = {
  points: "Points as they came",
  rollups: "Points summed up",
  waiting: "Points not yet sealed",
  free: "Room of what was removed, used again",
  events: "Events",
  words: "Words of events",
  state: "Everything else",
};
const AT_WORK_MS = 1_000;
const AT_REST_MS = 15_000;

/** What everything takes and will take; copies of it, and history that goes elsewhere. */
export function Copies() {
  const data = useQuery({
    queryKey: ["data"],
    queryFn: () => got(api.GET("/api/v1/data")),
    refetchInterval: (query) => (query.state.data?.jobs.length ? AT_WORK_MS : AT_REST_MS),
  });
  if (data.isError) return <Failure error={data.error} />;
  if (!data.data) return null;
  return (
    <>
      <Sizes data={data.data} />
      <Backups data={data.data} />
      <Exports data={data.data} />
    </>
  );
}

function Sizes({ data }: { data: Data }) {
  return (
    <section className="mt-8 max-w-4xl">
      <h2 className="mb-1 font-semibold">What it takes</h2>
      <p className="mb-2 text-ink-2 text-sm">
        {withUnit(data.bytes, "By")} now, {withUnit(data.free_bytes, "By")} free.{" "}
        {data.forecast.length
          ? `If each day is like yesterday: ${data.forecast.map((one) => `${withUnit(one.bytes, "By")} in ${one.in_days} days`).join(", ")}.`
          : "What it will be is known after a whole day."}
      </p>
      <Listing columns={["", "takes", "a day of it", "is kept"]}>
        {data.sizes.map((one) => (
          <Line
            key={one.kind}
            cells={[
              KINDS[one.kind],
              withUnit(one.bytes, "By"),
              one.per_day == null ? "" : withUnit(one.per_day, "By"),
              one.days == null ? "" : plural(Math.round(one.days), "day"),
            ]}
          />
        ))}
      </Listing>
    </section>
  );
}

/** How far work is that goes on, by the name of what it makes. */
function progress(data: Data, kind: "backup" | "export", name: string): string {
  const job = data.jobs.find((one) => one.kind === kind && one.name === name);
  return job?.of ? `${share(Math.floor((job.done / job.of) * 100) / 100)} ${job.at_hand}` : "";
}

function Backups({ data }: { data: Data }) {
  const client = useQueryClient();
  const may = useMay("administrator");
  const { now } = useSpan();
  const form = useForm({ name: "" });
  const begin = async () => {
    await got(api.POST("/api/v1/data/backups", { body: { name: form.values.name || null } }));
    form.reset();
    await client.invalidateQueries({ queryKey: ["data"] });
  };
  return (
    <section className="mt-8 max-w-4xl">
      <h2 className="mb-1 font-semibold">Backups</h2>
      <p className="mb-2 text-ink-2 text-sm">
        In <code>{data.backups_in}</code> of the console's machine. A disk that fails takes what is on it along: copy
        them to another one. <code>balise data restore</code> puts one back.
      </p>
      {data.backups.length > 0 && (
        <Listing columns={["name", "as of", "size", "state"]}>
          {data.backups.map((one) => (
            <Line
              key={one.name}
              cells={[
                one.name,
                one.at ? moment(unix(one.at), now) : "",
                withUnit(one.bytes, "By"),
                one.state === "whole"
                  ? "whole, verified"
                  : `${one.state} ${progress(data, "backup", one.name)} ${one.said}`,
              ]}
            />
          ))}
        </Listing>
      )}
      {may && (
        <div className="mt-3">
          <RowForm form={form} send={begin} label="Back up now">
            <TextField name="name" label="Name" placeholder="the moment" />
          </RowForm>
        </div>
      )}
    </section>
  );
}

function Exports({ data }: { data: Data }) {
  const client = useQueryClient();
  const may = useMay("administrator");
  const { now } = useSpan();
  const exports = useQuery({
    queryKey: ["exports", data.jobs.length],
    queryFn: () => got(api.GET("/api/v1/exports")),
  });
  const form = useForm({ name: "", what: "points,rollups,events", how: "follow" });
  const [problem, setProblem] = useState("");
  const again = () => client.invalidateQueries({ queryKey: ["exports"] });
  const put = async () => {
    const { name, what, how } = form.values;
    await got(
      api.PUT("/api/v1/exports/{name}", {
        params: { path: { name } },
        body: { what: what.split(",") as Export["what"], follow: how === "follow", every: "1h" },
      }),
    );
    form.reset();
    await again();
  };
  const remove = async (name: string) => {
    await got(api.DELETE("/api/v1/exports/{name}", { params: { path: { name } } }));
  };
  const items = exports.data?.items ?? [];
  return (
    <section className="mt-8 max-w-4xl">
      <h2 className="mb-1 font-semibold">Exports</h2>
      <p className="mb-2 text-ink-2 text-sm">
        History as Parquet, below <code>{data.exports_in}</code>, for other systems to read.
      </p>
      <Wrong problem={problem} />
      {exports.isError && <Failure error={exports.error} />}
      {items.length > 0 && (
        <Listing columns={["name", "what", "rows", "size", "state", ""]}>
          {items.map((one) => (
            <Line
              key={one.name}
              cells={[
                one.name,
                one.what.join(", "),
                one.rows.toLocaleString("en"),
                withUnit(one.bytes, "By"),
                [
                  one.state,
                  progress(data, "export", one.name),
                  one.written_at && `written ${moment(unix(one.written_at), now)}`,
                  one.said,
                ]
                  .filter(Boolean)
                  .join(", "),
              ]}
              action={
                may && (
                  <Remove
                    work={() => remove(one.name)}
                    done={again}
                    failed={setProblem}
                    question={`Delete the export ${one.name}? What it wrote stays.`}
                  />
                )
              }
            />
          ))}
        </Listing>
      )}
      {may && (
        <div className="mt-3">
          <RowForm form={form} send={put} label="Export">
            <TextField name="name" label="Name" />
            <ChoiceField
              name="what"
              label="What"
              options={[
                ["points,rollups,events", "points, sums and events"],
                ["rollups,events", "sums and events"],
                "events",
              ]}
            />
            <ChoiceField name="how" label="How" options={[["follow", "on and on, every hour"], "once"]} />
          </RowForm>
        </div>
      )}
    </section>
  );
}
