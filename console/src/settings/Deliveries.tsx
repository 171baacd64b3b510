import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Line, Listing } from "./parts";

/** The record of what was told to whom. */
export function Component() {
  const { now } = useSpan();
  const [parameters] = useSearchParams();
  const incident = Number(parameters.get("incident")) || undefined;
  const may = useMay("operator");
  const [said, setSaid] = useState<Record<number, string>>({});
  const resend = (number: number) => {
    got(api.POST("/api/v1/deliveries/{number}/resend", { params: { path: { number } } }))
      .then((made) => `on its way again, as ${made.id}`)
      .catch((error: Error) => error.message)
      .then((text) => setSaid((held) => ({ ...held, [number]: text })))
      .catch(() => undefined);
  };
  const deliveries = useQuery({
    queryKey: ["deliveries", incident ?? 0],
    queryFn: () => got(api.GET("/api/v1/deliveries", { params: { query: { limit: 200, incident } } })),
    refetchInterval: 10_000,
  });
  if (deliveries.isError) return <Failure error={deliveries.error} />;
  if (!deliveries.data) return <Waiting what="the deliveries" />;
  if (!deliveries.data.items.length)
    return (
      <Empty title="Nothing has been told to anybody yet">
        Make a channel and a callout; what they send is then recorded here.
      </Empty>
    );
  return (
    <Listing columns={["when", "to", "what", "of", "result", "tries", "problem, or the answer", ""]}>
      {deliveries.data.items.map((d) => (
        <Line
          key={d.id}
          cells={[
            moment(unix(d.sent_at ?? d.created_at), now, true),
            d.person ? `${d.person} by ${d.channel}` : d.channel,
            d.kind,
            d.incident ? (
              <Link key="incident" className="link" to={`/incidents/${d.incident}`}>
                incident {d.incident}
              </Link>
            ) : d.alert ? (
              <Link key="alert" className="link" to={`/alerts/${d.alert}`}>
                alert {d.alert}
              </Link>
            ) : (
              ""
            ),
            d.state === "waiting" && d.next_at ? `waiting, next try ${moment(unix(d.next_at), now, true)}` : d.state,
            String(d.attempts),
            said[d.id] ?? d.problem ?? d.answer ?? "",
          ]}
          action={
            may &&
            d.state !== "waiting" && (
              <button type="button" className="btn btn-ghost btn-xs" onClick={() => resend(d.id)}>
                Send again
              </button>
            )
          }
        />
      ))}
    </Listing>
  );
}
