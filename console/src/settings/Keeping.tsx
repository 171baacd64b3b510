import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, got } from "../api/client";
import type { components } from "../api/schema";
import { plural, withUnit } from "../lib/format";
import { useMay } from "../signin/session";
import { RowForm, TextField } from "../ui/Form";
import { Failure } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";
import { Line, Listing } from "./parts";

type Retention = components["schemas"]["RetentionAnswer"];

/** How long events are kept, by filter; and the days there are, here and set aside. */
export function Keeping() {
  const retention = useQuery({ queryKey: ["retention"], queryFn: () => got(api.GET("/api/v1/retention")) });
  if (retention.isError) return <Failure error={retention.error} />;
  if (!retention.data) return null;
  return (
    <>
      <ByFilter kept={retention.data} />
      <Days setAside={retention.data.set_aside} />
    </>
  );
}

function ByFilter({ kept }: { kept: Retention }) {
  const client = useQueryClient();
  const may = useMay("administrator");
  const form = useForm({ where: "", keep: "7d" });
  const put = async (change: Partial<Pick<Retention, "events" | "set_aside">>) => {
    const { events, most_bytes } = kept;
    await got(api.PUT("/api/v1/retention", { body: { events, most_bytes, ...change } }));
    await client.invalidateQueries({ queryKey: ["retention"] });
  };
  const add = async () => {
    const { where, keep } = form.values;
    const others = kept.events.filter((one) => one.where !== where);
    await put({ events: [...others.slice(0, -1), { where, keep }, ...others.slice(-1)] });
    form.reset();
  };
  const forecast =
    kept.growth_bytes_per_day === null
      ? "how it grows is known half an hour after the start"
      : kept.full_in_days === null
        ? "nothing grows"
        : `full in ${plural(Math.floor(kept.full_in_days), "day")} at the pace of now`;
  return (
    <section className="mt-8">
      <h2 className="mb-1 font-semibold">How long events are kept</h2>
      <p className="mb-2 text-ink-2 text-sm">
        {withUnit(kept.event_bytes, "By")} of {plural(kept.event_days, "day")} now; {withUnit(kept.free_bytes, "By")}{" "}
        free, {forecast}. The first filter that an event passes decides.
      </p>
      <Listing columns={["events", "kept", ""]}>
        {kept.events.map((one) => (
          <Line
            key={one.where ?? ""}
            cells={[one.where ? <code key="where">{one.where}</code> : "all others", one.keep]}
            action={
              may &&
              one.where && (
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  aria-label={`Keep ${one.where} as long as all others`}
                  onClick={() => form.send(() => put({ events: kept.events.filter((other) => other !== one) }))}
                >
                  As long as others
                </button>
              )
            }
          />
        ))}
      </Listing>
      {may && (
        <>
          <div className="mt-3" />
          <RowForm form={form} send={add} label="Keep them so long">
            <WhereField
              name="where"
              place="events.where"
              label="Events that pass"
              width="w-[32rem]"
              placeholder={'severity eq "debug"'}
              required
            />
            <TextField name="keep" place="events" label="For" width="w-20" required />
          </RowForm>
          <label className="flex items-center gap-2 text-sm">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={kept.set_aside}
              disabled={form.busy}
              onChange={(e) => form.send(() => put({ set_aside: e.target.checked }))}
            />
            Days of events are set aside before they go
          </label>
        </>
      )}
    </section>
  );
}

const WORK = [
  ["set-aside", "Set aside"],
  ["let-go", "Let go"],
  ["bring-back", "Bring back"],
] as const;

function Days({ setAside }: { setAside: boolean }) {
  const client = useQueryClient();
  const may = useMay("administrator");
  const form = useForm({});
  const days = useQuery({
    queryKey: ["event-days", setAside],
    queryFn: () => got(api.GET("/api/v1/event-days")),
  });
  const work = (day: string, what: (typeof WORK)[number][0]) =>
    form.send(async () => {
      await got(api.POST(`/api/v1/event-days/{day}/${what}`, { params: { path: { day } } }));
      await client.invalidateQueries({ queryKey: ["event-days"] });
    });
  if (days.isError) return <Failure error={days.error} />;
  const today = new Date().toISOString().slice(0, 10);
  return (
    <section className="mt-8">
      <h2 className="mb-1 font-semibold">Days of events</h2>
      <p className="mb-2 text-ink-2 text-sm">
        Days are in UTC. One that is set aside is copied out whole, and the copy is read back; then it can be let go
        here, and brought back to be read.
      </p>
      {form.error !== undefined && <Failure error={form.error} />}
      <Listing columns={["day", "here", "events", "takes", "set aside", ""]}>
        {(days.data?.items ?? []).map((one) => (
          <Line
            key={one.day}
            cells={[
              one.day,
              one.brought_back ? "brought back" : one.here ? "yes" : "no",
              one.events.toLocaleString("en-GB"),
              one.here ? withUnit(one.bytes, "By") : "",
              one.copy ? `${withUnit(one.copy.packed_bytes, "By")}, packed` : "no",
            ]}
            action={
              may &&
              one.day < today &&
              WORK.filter(([what]) =>
                what === "bring-back" ? !one.here : one.here && (what === "set-aside" || one.copy),
              ).map(([what, word]) => (
                <button
                  key={what}
                  type="button"
                  className="btn btn-ghost btn-xs"
                  aria-label={`${word}: ${one.day}`}
                  disabled={form.busy}
                  onClick={() => work(one.day, what)}
                >
                  {word}
                </button>
              ))
            }
          />
        ))}
      </Listing>
    </section>
  );
}
