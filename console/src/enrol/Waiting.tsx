import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { moment, plural, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Line, Listing } from "../settings/parts";
import { useMay } from "../signin/session";
import { Failure } from "../ui/Note";

/** Machines that came with a key of manual approval, and who speaks to receivers and is no host. */
export function Waiting() {
  const client = useQueryClient();
  const { now } = useSpan();
  const may = useMay("administrator");
  const [error, setError] = useState<unknown>();
  const waiting = useQuery({
    queryKey: ["candidates"],
    queryFn: () => got(api.GET("/api/v1/candidates")),
    refetchInterval: 5_000,
  });
  if (!waiting.data?.items.length) return null;
  const shown = waiting.data.items.filter((c) => !c.refused);
  if (!shown.length) return null;
  const after = (work: Promise<unknown>) => {
    setError(undefined);
    work
      .then(() => client.invalidateQueries({ queryKey: ["candidates"] }))
      .then(() => client.invalidateQueries({ queryKey: ["hosts"] }))
      .catch(setError);
  };
  return (
    <section aria-label="Waiting to be let in" className="mb-6">
      <h2 className="mb-1 font-semibold">Waiting to be let in</h2>
      {error !== undefined && <Failure error={error} />}
      <Listing columns={["name", "system", "addresses", "came from", "with the key", "since", ""]}>
        {shown.map((c) => (
          <Line
            key={`${c.kind} ${c.id}`}
            cells={[
              <span key="name" className="font-semibold">
                {c.name}
              </span>,
              c.kind === "sender" ? `sends syslog: ${plural(c.events, "event")}` : c.facts.os,
              (c.facts.addresses ?? []).slice(0, 3).join(", "),
              c.kind === "sender" ? `${c.origin}, named by its ${c.named_by}` : c.origin,
              c.kind === "sender" ? `the receiver ${c.receiver}` : c.key,
              moment(unix(c.asked_at), now),
            ]}
            action={
              may && (
                <>
                  <button
                    type="button"
                    className="btn btn-primary btn-xs mr-2"
                    onClick={() =>
                      after(
                        got(
                          api.POST("/api/v1/candidates/{number}/approve", {
                            params: { path: { number: c.id }, query: { kind: c.kind } },
                            body: { name: null },
                          }),
                        ),
                      )
                    }
                  >
                    Let in
                  </button>
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs"
                    onClick={() =>
                      after(
                        got(
                          api.DELETE("/api/v1/candidates/{number}", {
                            params: { path: { number: c.id }, query: { kind: c.kind } },
                          }),
                        ),
                      )
                    }
                  >
                    {c.kind === "sender" ? "Keep nothing of it" : "Turn away"}
                  </button>
                </>
              )
            }
          />
        ))}
      </Listing>
    </section>
  );
}
