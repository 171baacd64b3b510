import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { IncidentDetail } from "../api/client";
import { trailQuery } from "./trailQuery";

/** Milliseconds for which what stands under the trail waits for it. */
const PATIENCE = 1500;

/** The trail of an incident, followed while that is open. `settled` says that what stands under it may be drawn:
 * the trail is there, or has no answer, or takes long; what was drawn before would move away under a finger. */
export function useTrail(incident: IncidentDetail) {
  const trail = useQuery({
    ...trailQuery(incident.id),
    // The first may have been a little old: it is made anew when it is asked for.
    refetchInterval: ({ state }) => incident.state === "open" && (state.dataUpdateCount < 2 ? 10_000 : 60_000),
  });
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), PATIENCE);
    return () => clearTimeout(timer);
  }, []);
  return { trail, settled: late || !trail.isPending };
}
