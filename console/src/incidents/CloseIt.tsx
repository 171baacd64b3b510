import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type IncidentDetail } from "../api/client";
import { trailQuery } from "./trailQuery";

const UNSAID = "";
const OTHER = "other";

/** Closing: what helped, and which suspect was right, so that the next time both are shown. */
export function CloseIt({ incident, act }: { incident: IncidentDetail; act: (work: Promise<unknown>) => void }) {
  const trail = useQuery({ ...trailQuery(incident.id), enabled: !incident.practice });
  const [reason, setReason] = useState("");
  const [cause, setCause] = useState(UNSAID);
  const params = { path: { number: incident.id } };
  const close = async () => {
    if (cause) {
      const body = cause === OTHER ? { other: reason.trim() } : { suspect: Number(cause) };
      await got(api.POST("/api/v1/incidents/{number}/cause", { params, body }));
    }
    await got(api.POST("/api/v1/incidents/{number}/close", { params, body: { reason: reason.trim() } }));
  };
  return (
    <form
      className="mt-2 flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (reason.trim()) act(close());
      }}
    >
      <label className="flex max-w-xl grow flex-col gap-0.5 text-sm">
        What helped: it is shown when the same comes again
        {/* biome-ignore lint/a11y/noAutofocus: whoever pressed the button is about to type */}
        <input className="input input-sm w-full" autoFocus value={reason} onChange={(e) => setReason(e.target.value)} />
      </label>
      {trail.data && (
        <label className="flex flex-col gap-0.5 text-sm">
          What the cause was
          <select className="select select-sm w-64" value={cause} onChange={(e) => setCause(e.target.value)}>
            <option value={UNSAID}>nobody knows yet</option>
            {trail.data.suspects.map((one) => (
              <option key={one.rank} value={one.rank}>
                {one.title}
              </option>
            ))}
            <option value={OTHER}>something else, as I wrote</option>
          </select>
        </label>
      )}
      <button type="submit" className="btn btn-primary btn-sm" disabled={!reason.trim()}>
        Close it
      </button>
    </form>
  );
}
