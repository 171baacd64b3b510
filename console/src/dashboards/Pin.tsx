import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { flowed, inOrder, type Panel } from "../lib/sheet";

/** Pins what is shown to a dashboard: one that there is, or a new one; where it can be both, as it stands or as a value. */
export function Pin({ panel, value }: { panel: () => Panel; value?: () => Panel }) {
  const [asValue, setAsValue] = useState(false);
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [pinned, setPinned] = useState("");
  const [problem, setProblem] = useState("");
  const client = useQueryClient();
  const boards = useQuery({
    queryKey: ["dashboards"],
    queryFn: () => got(api.GET("/api/v1/dashboards")),
    enabled: open,
  });
  const mine = (boards.data?.items ?? []).filter((one) => one.may_change);
  const pin = async (to: string) => {
    try {
      const there = mine.some((one) => one.name === to);
      const held = there
        ? await got(api.GET("/api/v1/dashboards/{name}", { params: { path: { name: to } } }))
        : undefined;
      const panels = flowed([...inOrder(held?.panels ?? []), (asValue && value ? value : panel)()]);
      await got(
        api.PUT("/api/v1/dashboards/{name}", {
          params: { path: { name: to } },
          body: { about: held?.about ?? "", variables: held?.variables ?? [], shared: held?.shared ?? false, panels },
        }),
      );
      await client.invalidateQueries({ queryKey: ["dashboards"] });
      setPinned(to);
      setOpen(false);
      setProblem("");
    } catch (error) {
      setProblem(error instanceof Error ? error.message : "it could not be pinned");
    }
  };
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      <button type="button" className="link touch" aria-expanded={open} onClick={() => setOpen(!open)}>
        pin to a dashboard
      </button>
      {open && value && (
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={asValue}
            onChange={(e) => setAsValue(e.target.checked)}
          />
          as a value
        </label>
      )}
      {open &&
        mine.map((one) => (
          <button key={one.name} type="button" className="btn btn-xs" onClick={() => void pin(one.name)}>
            {one.name}
          </button>
        ))}
      {open && (
        <form
          className="join"
          onSubmit={(e) => {
            e.preventDefault();
            if (name.trim()) void pin(name.trim());
          }}
        >
          <input
            className="input input-xs join-item w-32"
            aria-label="A new dashboard"
            placeholder="a new one"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <button type="submit" className="btn btn-xs join-item">
            Pin
          </button>
        </form>
      )}
      {pinned && (
        <span role="status">
          pinned to{" "}
          <Link className="link" to={`/dashboards/${encodeURIComponent(pinned)}`}>
            {pinned}
          </Link>
        </span>
      )}
      {problem && (
        <span role="alert" className="text-error">
          {problem}
        </span>
      )}
    </span>
  );
}
