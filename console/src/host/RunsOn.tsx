import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Host } from "../api/client";
import { plural } from "../lib/format";
import { useHosts } from "../lib/queries";
import { withSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";

const SHOWN = 12;

/** The machine that a host runs on, and the hosts that run on it. */
export function RunsOn({ host }: { host: Host }) {
  const may = useMay("operator");
  const [asks, setAsks] = useState(false);
  if (!host.runs_on && !host.carries.length && !may) return null;
  return (
    <div className="mt-1 font-dense text-sm">
      <p className="flex flex-wrap items-center gap-x-3">
        {host.runs_on && (
          <span>
            runs on <HostLink name={host.runs_on} /> <span className="text-ink-2">({host.runs_on_by})</span>
          </span>
        )}
        {host.carries.length > 0 && (
          <span>
            {plural(host.carries.length, "host")} run{host.carries.length === 1 ? "s" : ""} on it:{" "}
            {host.carries.slice(0, SHOWN).map((name, i) => (
              <span key={name}>
                {i > 0 && ", "}
                <HostLink name={name} />
              </span>
            ))}
            {host.carries.length > SHOWN && ` and ${host.carries.length - SHOWN} more`}
          </span>
        )}
        {may && !asks && (
          <button type="button" className="link touch min-h-6 text-ink-2" onClick={() => setAsks(true)}>
            {host.runs_on ? "It runs on another …" : "It runs on another host …"}
          </button>
        )}
      </p>
      {asks && <Choice host={host} done={() => setAsks(false)} />}
    </div>
  );
}

function HostLink({ name }: { name: string }) {
  const [parameters] = useSearchParams();
  return (
    <Link
      className="link touch inline-flex min-h-6 items-center"
      to={withSpan(`/fleet/${encodeURIComponent(name)}`, parameters)}
    >
      {name}
    </Link>
  );
}

/** Which machine a host runs on: typed, with the hosts there are to choose from. */
function Choice({ host, done }: { host: Host; done: () => void }) {
  const client = useQueryClient();
  const hosts = useHosts();
  const [machine, setMachine] = useState(host.runs_on ?? "");
  const [problem, setProblem] = useState("");
  const send = (runs_on: string) =>
    void got(api.PATCH("/api/v1/hosts/{name}", { params: { path: { name: host.name } }, body: { runs_on } }))
      .then(async () => {
        await client.invalidateQueries({ queryKey: ["hosts"] });
        done();
      })
      .catch((error: Error) => setProblem(error.message));
  return (
    <form
      className="my-1 flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        send(machine.trim());
      }}
    >
      <label className="flex items-center gap-2">
        {host.name} runs on
        <input
          // biome-ignore lint/a11y/noAutofocus: whoever pressed the button is about to type
          autoFocus
          className="input input-sm w-48"
          list="machines"
          value={machine}
          onChange={(e) => setMachine(e.target.value)}
        />
      </label>
      <datalist id="machines">
        {hosts.data?.items
          .filter((one) => one.name !== host.name)
          .map((one) => (
            <option key={one.name} value={one.name} />
          ))}
      </datalist>
      <button type="submit" className="btn btn-sm">
        {machine.trim() ? "Keep it" : "It runs on none"}
      </button>
      <button type="button" className="btn btn-ghost btn-sm" onClick={done}>
        Leave it
      </button>
      {problem && (
        <span role="alert" className="text-error">
          {problem}
        </span>
      )}
    </form>
  );
}
