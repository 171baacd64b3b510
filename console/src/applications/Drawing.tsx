import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { useHosts } from "../lib/queries";
import { Failure, Waiting } from "../ui/Note";

type Body = Schemas["ApplicationBody"];

/** Changing an application: its parts, and which needs which. Every change is kept at once. */
export function Drawing({ name }: { name: string }) {
  const client = useQueryClient();
  const [error, setError] = useState<unknown>();
  const drawn = useQuery({
    queryKey: ["applications", name, "drawn"],
    queryFn: () => got(api.GET("/api/v1/applications/{name}/drawn", { params: { path: { name } } })),
  });
  const body = drawn.data;
  if (!body) return <Waiting what="the drawing" lines={4} />;
  const keep = (next: Body) => {
    setError(undefined);
    got(api.PUT("/api/v1/applications/{name}", { params: { path: { name } }, body: next }))
      .then(() => client.invalidateQueries({ queryKey: ["applications"] }))
      .catch(setError);
  };
  return (
    <section aria-label="The drawing" className="mt-4 grid grid-cols-2 gap-8 text-sm">
      <Parts body={body} keep={keep} />
      <Needs body={body} keep={keep} />
      {error !== undefined && (
        <div className="col-span-2">
          <Failure error={error} />
        </div>
      )}
    </section>
  );
}

function Parts({ body, keep }: { body: Body; keep: (next: Body) => void }) {
  const hosts = useHosts();
  const services = useQuery({ queryKey: ["services"], queryFn: () => got(api.GET("/api/v1/services")) });
  const probes = useQuery({ queryKey: ["probes"], queryFn: () => got(api.GET("/api/v1/probes")) });
  const add = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const held = new FormData(form);
    const what = JSON.parse(String(held.get("what"))) as Record<string, string>;
    const part = {
      about: "",
      ...what,
      name: String(held.get("name")).trim() || String(what.service ?? what.host ?? what.probe),
    };
    keep({ ...body, parts: [...body.parts, part] });
    form.reset();
  };
  return (
    <div>
      <h2 className="font-semibold">Parts</h2>
      <ul className="hairline font-dense">
        {body.parts.map((p) => (
          <li key={p.name} className="flex items-baseline gap-2 border-base-300 border-t py-0.5">
            <span className="font-semibold">{p.name}</span>
            <span className="grow text-ink-2">
              {p.service ? `${p.service} on ${p.host}` : (p.host ?? p.group ?? `probe ${p.probe}`)}
            </span>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Remove ${p.name}`}
              onClick={() =>
                keep({
                  ...body,
                  parts: body.parts.filter((o) => o.name !== p.name),
                  needs: body.needs
                    .filter((n) => n.from !== p.name)
                    .map((n) => ({ ...n, to: n.to.filter((t) => t !== p.name), at_least: null }))
                    .filter((n) => n.to.length),
                })
              }
            >
              Remove
            </button>
          </li>
        ))}
      </ul>
      <form onSubmit={add} className="mt-2 flex items-end gap-2">
        <label className="grow">
          What it is
          <select name="what" required className="select select-sm w-full">
            <optgroup label="Services">
              {services.data?.items.map((s) => (
                <option key={s.id} value={JSON.stringify({ host: s.host, service: s.name })}>
                  {s.name} on {s.host}
                </option>
              ))}
            </optgroup>
            <optgroup label="Hosts">
              {hosts.data?.items.map((h) => (
                <option key={h.name} value={JSON.stringify({ host: h.name })}>
                  {h.name}
                </option>
              ))}
            </optgroup>
            <optgroup label="Probes">
              {probes.data?.items.map((p) => (
                <option key={p.name} value={JSON.stringify({ probe: p.name })}>
                  {p.name}
                </option>
              ))}
            </optgroup>
          </select>
        </label>
        <label>
          Name here
          <input name="name" className="input input-sm block w-40" />
        </label>
        <button type="submit" className="btn btn-sm">
          Add
        </button>
      </form>
    </div>
  );
}

function Needs({ body, keep }: { body: Body; keep: (next: Body) => void }) {
  const add = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const held = new FormData(event.currentTarget);
    const to = held.getAll("to").map(String);
    const least = Number(held.get("least"));
    const need = { from: String(held.get("from")), to, at_least: least > 0 && least < to.length ? least : null };
    keep({ ...body, needs: [...body.needs, need] });
  };
  const names = body.parts.map((p) => p.name);
  return (
    <div>
      <h2 className="font-semibold">Which needs which</h2>
      <ul className="hairline font-dense">
        {body.needs.map((n, i) => (
          <li key={i} className="flex items-baseline gap-2 border-base-300 border-t py-0.5">
            <span className="grow">
              <span className="font-semibold">{n.from}</span> needs {n.at_least ? `at least ${n.at_least} of ` : ""}
              {n.to.join(", ")}
            </span>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Remove what ${n.from} needs`}
              onClick={() => keep({ ...body, needs: body.needs.filter((_, j) => j !== i) })}
            >
              Remove
            </button>
          </li>
        ))}
      </ul>
      <form onSubmit={add} className="mt-2 flex items-end gap-2">
        <label>
          Part
          <select name="from" className="select select-sm block w-40">
            {names.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
        <label>
          needs
          <select name="to" multiple required size={4} className="select block h-24 w-48">
            {names.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
        <label>
          at least
          <input name="least" type="number" min={1} className="input input-sm block w-20" placeholder="all" />
        </label>
        <button type="submit" className="btn btn-sm">
          Add
        </button>
      </form>
    </div>
  );
}
