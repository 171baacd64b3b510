import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { plural } from "../lib/format";

const day = (at: number) => new Date(at * 1000).toISOString().slice(0, 10);

/** Says of a span without events which of its days are set aside, so that nobody takes them for quiet ones. */
export function Missing({ start, end }: { start: number; end: number }) {
  const days = useQuery({ queryKey: ["event-days"], queryFn: () => got(api.GET("/api/v1/event-days")) });
  const gone = (days.data?.items ?? []).filter((one) => !one.here && one.day >= day(start) && one.day <= day(end));
  if (gone.length === 0) return null;
  return (
    <>
      {" "}
      {plural(gone.length, "day")} of this span {gone.length === 1 ? "is" : "are"} set aside:{" "}
      <Link className="link" to="/settings/storage">
        bring them back
      </Link>{" "}
      to read them.
    </>
  );
}
