import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Line, Listing } from "./parts";

/** The record of what was told to whom. */
export function Component() {
  const { now } = useSpan();
  const deliveries = useQuery({
    queryKey: ["deliveries"],
    queryFn: () => got(api.GET("/api/v1/deliveries", { params: { query: { limit: 200 } } })),
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
    <Listing columns={["when", "channel", "what", "alert", "result", "tries", "problem"]}>
      {deliveries.data.items.map((d) => (
        <Line
          key={d.id}
          cells={[
            moment(unix(d.sent_at ?? d.created_at), now, true),
            d.channel,
            d.kind,
            d.alert ? (
              <Link key="alert" className="link" to={`/alerts/${d.alert}`}>
                {d.alert}
              </Link>
            ) : (
              ""
            ),
            d.state === "waiting" && d.next_at ? `waiting, next try ${moment(unix(d.next_at), now, true)}` : d.state,
            String(d.attempts),
            d.problem ?? "",
          ]}
        />
      ))}
    </Listing>
  );
}
