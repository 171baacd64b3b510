import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { words } from "../lib/channelForm";
import { moment, unix } from "../lib/format";
import { HERE, hoursText } from "../lib/hours";
import { usePeople } from "../lib/queries";
import { instant } from "../lib/span";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing, Remove, Wrong } from "./parts";
import { Weeks } from "./Weeks";

const WEEKS = 6;
const WEEK = 7 * 86_400;

/** People who can be told, and who is on duty when. */
export function Component() {
  const people = usePeople();
  const rotas = useQuery({
    queryKey: ["rotas"],
    queryFn: () => got(api.GET("/api/v1/rotas")),
    refetchInterval: 60_000,
  });
  if (people.isError) return <Failure error={people.error} />;
  if (rotas.isError) return <Failure error={rotas.error} />;
  if (!people.data || !rotas.data) return <Waiting what="people and rotas" />;
  const names = people.data.items.map((p) => p.name);
  return (
    <>
      <h2 className="mb-2 font-semibold">Rotas</h2>
      {rotas.data.items.length === 0 && (
        <Empty title="No rotas yet">A rota says who is on duty when: a callout that tells it tells them.</Empty>
      )}
      {rotas.data.items.map((rota) => (
        <OneRota key={rota.name} rota={rota} names={names} />
      ))}
      <NewRota names={names} />
      <h2 className="mt-8 mb-2 font-semibold">People</h2>
      <People people={people.data.items} />
    </>
  );
}

function OneRota({ rota, names }: { rota: Schemas["RotaAnswer"]; names: string[] }) {
  const { now } = useSpan();
  const client = useQueryClient();
  const admin = useMay("administrator");
  const operator = useMay("operator");
  const monday = new Date(now * 1000);
  monday.setHours(0, 0, 0, 0);
  monday.setDate(monday.getDate() - ((monday.getDay() + 6) % 7));
  const start = monday.getTime() / 1000;
  const path = { name: rota.name };
  const weeks = useQuery({
    queryKey: ["rotas", rota.name, start],
    queryFn: () =>
      got(
        api.GET("/api/v1/rotas/{name}/stretches", {
          params: { path, query: { from: instant(start), to: instant(start + WEEKS * WEEK + 7200) } },
        }),
      ),
  });
  const [problem, setProblem] = useState("");
  const form = useForm({ person: "", from: "", to: "" });
  const again = () => client.invalidateQueries({ queryKey: ["rotas"] });
  const { people, turn, begins, at, zone, overrides } = rota;
  const override = async () => {
    const change = {
      person: form.values.person,
      from: new Date(form.values.from).toISOString(),
      to: new Date(form.values.to).toISOString(),
    };
    await got(
      api.PUT("/api/v1/rotas/{name}", {
        params: { path },
        body: { people, turn, begins, at, zone, overrides: [...overrides, change] },
      }),
    );
    form.reset();
    await again();
  };
  return (
    <section className="mb-6" aria-label={`Rota ${rota.name}`}>
      <p className="flex flex-wrap items-baseline gap-x-3">
        <strong className="text-lg">{rota.name}</strong>
        <span className="font-dense text-lg">
          {rota.on_duty ? (
            <>
              <strong>{rota.on_duty}</strong> is on duty until{" "}
              {rota.until ? moment(unix(rota.until), now) : "further notice"}
            </>
          ) : (
            <strong className="text-error">nobody is on duty</strong>
          )}
        </span>
        <span className="text-ink-2">
          {people.join(", ")} in turns of {turn}, changing at {at} {zone}
        </span>
        <a className="link" href={`/api/v1/rotas/${encodeURIComponent(rota.name)}/calendar.ics`}>
          as a calendar
        </a>
        {admin && (
          <Remove
            work={() => got(api.DELETE("/api/v1/rotas/{name}", { params: { path } }))}
            done={again}
            failed={setProblem}
          />
        )}
      </p>
      <Wrong problem={problem} />
      <Weeks start={start} weeks={WEEKS} now={now} stretches={weeks.data?.items ?? []} people={people} />
      {operator && names.length > 1 && (
        <RowForm form={form} send={override} label="Somebody else has this time">
          <TextField name="person" label="Who instead" place="overrides" width="w-36" required list="names" />
          <TextField name="from" label="From" width="w-44" required placeholder="2026-12-04 18:00" />
          <TextField name="to" label="To" width="w-44" required placeholder="2026-12-06 18:00" />
        </RowForm>
      )}
    </section>
  );
}

function NewRota({ names }: { names: string[] }) {
  const client = useQueryClient();
  const may = useMay("operator");
  const form = useForm({ name: "", people: "", turn: "1w", begins: "", at: "09:00", zone: HERE });
  if (!may) return null;
  const send = async () => {
    const { name, people, turn, begins, at, zone } = form.values;
    await got(
      api.PUT("/api/v1/rotas/{name}", {
        params: { path: { name } },
        body: { people: people.split(",").map((p) => p.trim()), turn, begins, at, zone, overrides: [] },
      }),
    );
    form.reset();
    await client.invalidateQueries({ queryKey: ["rotas"] });
  };
  return (
    <RowForm
      form={form}
      send={send}
      label="Keep the rota"
      note={names.length ? `People there are: ${names.join(", ")}.` : "Add people first."}
    >
      <TextField name="name" label="Name of a rota" width="w-36" required />
      <TextField
        name="people"
        label="People, in the order of their turns"
        width="w-64"
        required
        placeholder="anna, berit"
      />
      <TextField name="turn" label="A turn lasts" width="w-20" required />
      <TextField name="begins" label="The first turn is on" width="w-32" required placeholder="2026-11-30" />
      <TextField name="at" label="Changes at" width="w-20" required />
      <TextField name="zone" label="By the clocks of" width="w-36" required />
      <datalist id="names">
        {names.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
    </RowForm>
  );
}

function People({ people }: { people: Schemas["Person"][] }) {
  const client = useQueryClient();
  const may = useMay("administrator");
  const form = useForm({ name: "", channels: "", from: "", to: "", zone: HERE });
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => got(api.GET("/api/v1/channels")) });
  const [problem, setProblem] = useState("");
  const again = () => client.invalidateQueries({ queryKey: ["people"] });
  const send = async () => {
    const { name, channels, from, to, zone } = form.values;
    const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;
    await got(
      api.PUT("/api/v1/people/{name}", {
        params: { path: { name } },
        body: { channels: words(channels), quiet: from && to ? { from, to, zone, days: [...days] } : null },
      }),
    );
    form.reset();
    await again();
  };
  const names = channels.data?.items.map((one) => one.name) ?? [];
  const there = names.length
    ? `Channels there are: ${names.join(", ")}.`
    : "There are no channels yet: make them first, one for each person.";
  return (
    <>
      {may && (
        <RowForm
          form={form}
          send={send}
          label="Keep the person"
          note={`${there} In quiet hours they are not told; whoever is next is.`}
        >
          <TextField name="name" label="Name" width="w-36" required />
          <TextField name="channels" label="Their channels" width="w-56" required />
          <TextField name="from" label="Quiet from" place="quiet.from" width="w-20" placeholder="22:00" />
          <TextField name="to" label="to" place="quiet.to" width="w-20" placeholder="07:00" />
          <TextField name="zone" label="By the clocks of" place="quiet.zone" width="w-36" />
        </RowForm>
      )}
      {people.length === 0 ? (
        <Empty title="Nobody can be told yet">
          Somebody needs a name here and a{" "}
          <Link className="link" to="/settings/channels">
            channel
          </Link>{" "}
          of their own.
        </Empty>
      ) : (
        <Listing columns={["person", "channels", "quiet", ""]}>
          {people.map((p) => (
            <Line
              key={p.name}
              cells={[p.name, p.channels.join(", "), p.quiet ? hoursText(p.quiet) : ""]}
              action={
                may && (
                  <Remove
                    work={() => got(api.DELETE("/api/v1/people/{name}", { params: { path: { name: p.name } } }))}
                    done={again}
                    failed={setProblem}
                  />
                )
              }
            />
          ))}
        </Listing>
      )}
      <Wrong problem={problem} />
    </>
  );
}
