import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { quoted } from "../lib/filterText";
import { plural } from "../lib/format";
import { useMay } from "../signin/session";

/** The most hosts that are charted beside each other. */
const MOST_CHARTED = 20;

function whereOf(names: string[]): string {
  return names.map((name) => `host eq ${quoted(name)}`).join(" or ");
}

function charted(names: string[]): string {
  return `avg of balise.cpu.busy by host where ${whereOf(names)}`;
}

/** What can be done with the hosts that are chosen in the table. */
export function Chosen({ names, clear }: { names: string[]; clear: () => void }) {
  const client = useQueryClient();
  const may = useMay("operator");
  const [label, setLabel] = useState("");
  const [group, setGroup] = useState("");
  const [said, setSaid] = useState("");
  if (!names.length) return null;
  const apply = () => {
    const [key = "", value = ""] = label.trim().split("=", 2);
    const body = {
      hosts: names,
      set_labels: key && value ? { [key]: value } : {},
      remove_labels: key && !value ? [key] : [],
      join: group.trim() ? [group.trim()] : [],
      leave: [],
    };
    got(api.POST("/api/v1/hosts/change", { body }))
      .then((answer) => setSaid(`${plural(answer.changed, "host")} changed`))
      .then(() => client.invalidateQueries({ queryKey: ["hosts"] }))
      .then(() => client.invalidateQueries({ queryKey: ["groups"] }))
      .catch((error: Error) => setSaid(error.message));
  };
  return (
    <form
      className="mb-2 flex flex-wrap items-center gap-3 border-primary border-l-3 bg-base-200 py-1.5 pl-3"
      aria-label="What to do with the chosen hosts"
      onSubmit={(e) => {
        e.preventDefault();
        apply();
      }}
    >
      <span className="font-semibold">{plural(names.length, "host")} chosen</span>
      {names.length > 1 ? (
        <Link className="btn btn-sm" to={`/compare?hosts=${names.map(encodeURIComponent).join(",")}`}>
          Compare
        </Link>
      ) : (
        <span className="text-ink-2 text-sm">choose another one to compare</span>
      )}
      {names.length <= MOST_CHARTED && (
        <Link className="btn btn-sm" to={`/charts?${new URLSearchParams({ q: charted(names) })}`}>
          Charts
        </Link>
      )}
      {may && (
        <Link className="btn btn-sm" to={`/settings/plans?${new URLSearchParams({ hosts: whereOf(names) })}`}>
          Plan
        </Link>
      )}
      {may && (
        <>
          <input
            className="input input-sm w-48"
            aria-label="Label to set"
            placeholder="label, as role=gate; role= removes"
            value={label}
            onChange={(e) => setLabel(e.target.value)}
          />
          <input
            className="input input-sm w-40"
            aria-label="Group to join"
            placeholder="join the group"
            value={group}
            onChange={(e) => setGroup(e.target.value)}
          />
          <button type="submit" className="btn btn-sm" disabled={!label.trim() && !group.trim()}>
            Apply to all
          </button>
        </>
      )}
      <button type="button" className="btn btn-ghost btn-sm" onClick={clear}>
        Choose none
      </button>
      <span role="status" className="text-sm">
        {said}
      </span>
    </form>
  );
}
