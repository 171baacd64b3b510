import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { moment, plural, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Line, Listing } from "../settings/parts";
import { isGood } from "./results";

/** The lists of before: what is still being tested is found again here. */
export function Lists() {
  const { now } = useSpan();
  const lists = useQuery({
    queryKey: ["enrolments"],
    queryFn: () => got(api.GET("/api/v1/enrolments")),
    refetchInterval: 5_000,
  });
  if (!lists.data?.items.length) return null;
  return (
    <section aria-label="Lists of before">
      <h2 className="mb-1 font-semibold">Lists</h2>
      <Listing columns={["begun", "by", "hosts", "how it went", ""]}>
        {lists.data.items.slice(0, 8).map((l) => {
          const bad = Object.entries(l.results).filter(([r]) => !isGood(r));
          const left = bad.reduce((sum, [, count]) => sum + (count ?? 0), 0);
          return (
            <Line
              key={l.id}
              cells={[
                moment(unix(l.created_at), now, true),
                l.created_by,
                String(l.total),
                l.state === "testing"
                  ? `testing, ${l.tested} of ${l.total} done`
                  : `${l.results.added ?? 0} added${left ? `, ${plural(left, "host")} to put right` : ""}`,
              ]}
              action={
                <Link className="btn btn-ghost btn-xs" to={`/enrol/${l.id}`}>
                  {left ? "Put right" : "Look"}
                </Link>
              }
            />
          );
        })}
      </Listing>
    </section>
  );
}
