import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import type { Body } from "../lib/sheet";
import { useSpan, withSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";

/** All dashboards: one's own, those that are shared, and those that kits bring. */
export function Component() {
  const [parameters] = useSearchParams();
  const { now } = useSpan();
  const boards = useQuery({ queryKey: ["dashboards"], queryFn: () => got(api.GET("/api/v1/dashboards")) });
  const items = boards.data?.items ?? [];
  const own = items.filter((one) => !one.from);
  const brought = items.filter((one) => one.from);
  const link = (name: string) => withSpan(`/dashboards/${encodeURIComponent(name)}`, parameters);
  return (
    <>
      <h1 className="mb-2 font-semibold text-xl">Dashboards</h1>
      {boards.isError && <Failure error={boards.error} again={() => void boards.refetch()} />}
      {boards.isPending && <Waiting what="the dashboards" />}
      {boards.data && !own.length && (
        <Empty title="None of your own yet.">Pin a chart where it stands, or begin an empty one below.</Empty>
      )}
      {own.length > 0 && (
        <ul className="mb-4">
          {own.map((one) => (
            <li key={one.name} className="flex flex-wrap items-baseline gap-x-3 border-base-300 border-b py-1.5">
              <Link className="font-semibold hover:underline" to={link(one.name)}>
                {one.name}
              </Link>
              <span className="text-ink-2">{one.about}</span>
              <span className="grow" />
              <span className="font-dense text-ink-2 text-sm">
                {one.panels} panels, {one.shared ? `shared by ${one.owner}` : one.owner}
                {one.updated_at && `, changed ${moment(unix(one.updated_at), now)}`}
              </span>
            </li>
          ))}
        </ul>
      )}
      <Begin />
      {brought.length > 0 && <h2 className="mt-5 mb-1 font-dense font-semibold text-ink-2">Brought by kits</h2>}
      <ul className="columns-1 gap-8 md:columns-2">
        {brought.map((one) => (
          <li key={one.name} className="truncate py-0.5">
            <Link className="hover:underline" to={link(one.name)}>
              {one.name}
            </Link>{" "}
            <span className="text-ink-2 text-sm">{one.about}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

/** An empty dashboard, or one from a file. */
function Begin() {
  const [name, setName] = useState("");
  const [error, setError] = useState<unknown>();
  const client = useQueryClient();
  const go = useNavigate();
  const put = async (called: string, body: Body) => {
    try {
      await keepBoard(called, body);
      await client.invalidateQueries({ queryKey: ["dashboards"] });
      await go(`/dashboards/${encodeURIComponent(called)}`);
    } catch (problem) {
      setError(problem);
    }
  };
  const read = async (file: File | undefined) => {
    if (!file) return;
    try {
      const found = await got(api.POST("/api/v1/dashboards/read", { body: { text: await file.text() } }));
      const slip = found.problems[0];
      if (slip || !found.dashboard) {
        throw new Error(`line ${slip?.line}, column ${slip?.column}: ${slip?.detail}`);
      }
      const { dashboard, ...body } = found.dashboard;
      await put(dashboard, body);
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (name.trim()) void put(name.trim(), { about: "", variables: [], panels: [], shared: false });
      }}
    >
      <input
        className="input input-sm w-56"
        aria-label="Name of a new dashboard"
        placeholder="a name"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <button type="submit" className="btn btn-sm" disabled={!name.trim()}>
        Begin an empty one
      </button>
      <label className="btn btn-sm btn-ghost font-normal">
        from a file
        <input
          type="file"
          className="sr-only"
          accept=".json,.yaml,.yml"
          onChange={(e) => void read(e.target.files?.[0])}
        />
      </label>
      {error !== undefined && <Failure error={error} />}
    </form>
  );
}

function keepBoard(name: string, body: Body) {
  return got(api.PUT("/api/v1/dashboards/{name}", { params: { path: { name } }, body }));
}
