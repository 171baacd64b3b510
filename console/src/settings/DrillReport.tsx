import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { duration } from "../lib/format";

/** How a drill goes: who got it, how fast, who answered. */
export function DrillReport({ number }: { number: number }) {
  const drill = useQuery({
    queryKey: ["drill", number],
    queryFn: () => got(api.GET("/api/v1/drills/{number}", { params: { path: { number } } })),
    refetchInterval: 1000,
  });
  if (!drill.data) return <p role="status">The practice incident is on its way …</p>;
  return (
    <div role="status" className="mt-2 border-primary border-l-4 pl-3">
      <p>
        <Link className="link" to={`/incidents/${drill.data.incident}`}>
          Practice incident {drill.data.incident}
        </Link>{" "}
        {drill.data.answered_by
          ? `answered by ${drill.data.answered_by} after ${duration(drill.data.answered_after ?? 0)}`
          : "is on its way; nobody has answered yet"}
      </p>
      <ul className="font-dense">
        {drill.data.told.map((told, i) => (
          <li key={i}>
            {told.person ? `${told.person} by ${told.channel}` : told.channel}:{" "}
            {told.seconds === null ? (
              <span className="text-error">{told.problem ?? "not through yet"}</span>
            ) : (
              `got it after ${told.seconds.toFixed(1)} s`
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}
