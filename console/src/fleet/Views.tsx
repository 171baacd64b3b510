import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { useMay } from "../signin/session";
import { COLUMNS, columnOf, DEFAULT_COLUMNS, keysText, MOST_COLUMNS, type Order } from "./columns";
import { FACTS } from "./facts";
import { NewColumn } from "./NewColumn";

interface Props {
  where: string;
  columns: string[];
  order: Order;
  groupBy: string;
  labels: string[];
  change: (changes: Record<string, string>) => void;
}

/** Which columns, and ways to look that were kept under a name. */
export function Views({ where, columns, order, groupBy, labels, change }: Props) {
  const client = useQueryClient();
  const may = useMay("operator");
  const views = useQuery({ queryKey: ["views"], queryFn: () => got(api.GET("/api/v1/views")) });
  const [name, setName] = useState("");
  const [problem, setProblem] = useState("");
  const all = [
    { key: "groups", name: "Groups" },
    ...FACTS.map(({ key, name }) => ({ key, name })),
    ...COLUMNS.map(({ key, name }) => ({ key, name })),
  ];
  const made = columns.filter((key) => !all.some((one) => one.key === key)).flatMap((key) => columnOf(key) ?? []);
  const keep = (next: string[]) =>
    change({ columns: next.length === 0 || next.join() === DEFAULT_COLUMNS.join() ? "" : keysText(next) });
  const toggle = (key: string) => keep(columns.includes(key) ? columns.filter((c) => c !== key) : [...columns, key]);
  const after = (work: Promise<unknown>) => {
    setProblem("");
    work
      .then(() => setName(""))
      .then(() => client.invalidateQueries({ queryKey: ["views"] }))
      .catch((error: Error) => setProblem(error.message));
  };
  return (
    <>
      <details className="dropdown dropdown-end">
        <summary className="btn btn-sm font-normal">Columns</summary>
        <div className="dropdown-content z-20 mt-1 grid w-96 grid-cols-2 gap-x-3 rounded-box border border-base-300 bg-base-100 p-3">
          {[...all, ...made.map(({ key, about }) => ({ key, name: about }))].map((c) => (
            <label key={c.key} className="flex min-w-0 items-center gap-2 break-all py-0.5 text-sm">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={columns.includes(c.key)}
                disabled={!columns.includes(c.key) && columns.length >= MOST_COLUMNS}
                onChange={() => toggle(c.key)}
              />
              {c.name}
            </label>
          ))}
          <NewColumn labels={labels} add={(key) => !columns.includes(key) && keep([...columns, key])} />
        </div>
      </details>
      <details className="dropdown dropdown-end">
        <summary className="btn btn-sm font-normal">Views</summary>
        <div className="dropdown-content z-20 mt-1 w-80 rounded-box border border-base-300 bg-base-100 p-3 text-sm">
          {views.data?.items.length === 0 && <p className="mb-2 text-ink-2">No view is kept yet.</p>}
          {views.data?.items.map((v) => (
            <p key={v.name} className="flex items-center justify-between">
              <button
                type="button"
                className="grow py-1 text-left hover:underline"
                onClick={() =>
                  change({
                    where: v.where ?? "",
                    columns: keysText(v.columns ?? []),
                    group: v.group_by ?? "",
                    sort: v.sort === "state" ? "" : (v.sort ?? ""),
                    down: v.descending ? "1" : "",
                  })
                }
              >
                {v.name}
              </button>
              {may && (
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  aria-label={`Delete the view ${v.name}`}
                  onClick={() => after(got(api.DELETE("/api/v1/views/{name}", { params: { path: { name: v.name } } })))}
                >
                  Delete
                </button>
              )}
            </p>
          ))}
          {may && (
            <form
              className="mt-2 flex gap-2"
              onSubmit={(e) => {
                e.preventDefault();
                after(
                  got(
                    api.PUT("/api/v1/views/{name}", {
                      params: { path: { name } },
                      body: { where, columns, sort: order.key, descending: order.down, group_by: groupBy },
                    }),
                  ),
                );
              }}
            >
              <input
                className="input input-sm grow"
                aria-label="Name of the view"
                placeholder="keep this view as …"
                required
                value={name}
                onChange={(e) => setName(e.target.value)}
              />
              <button type="submit" className="btn btn-sm">
                Keep
              </button>
            </form>
          )}
          {problem && <p className="mt-1 text-state-warning">{problem}</p>}
        </div>
      </details>
    </>
  );
}
