import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import { onlyWith } from "../lib/filterText";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Failure, Waiting } from "../ui/Note";
import { WholeEvent } from "./Line";
import { EventsNav } from "./Nav";

/** One event, at an address that stays. */
export function Component() {
  const { id = "" } = useParams();
  const { span, now } = useSpan();
  const go = useNavigate();
  const answer = useQuery({
    queryKey: ["event", id],
    queryFn: () => got(api.GET("/api/v1/events/{number}", { params: { path: { number: id } } })),
    retry: false,
  });
  const event = answer.data;
  const at = event ? unix(event.time) : 0;
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">
        {event ? `${event.host}, ${event.source}, ${moment(at, now, true)}` : "One event"}
      </h1>
      <EventsNav />
      {answer.isError && <Failure error={answer.error} />}
      {!event && !answer.isError && <Waiting what="the event" />}
      {event && (
        <div className="font-dense text-sm">
          <WholeEvent
            event={event}
            now={now}
            span={span}
            only={(attribute, value, has) => {
              const wanted = {
                where: onlyWith("", attribute, value, has),
                from: String(at - 3600),
                to: String(at + 3600),
              };
              void go(`/events?${new URLSearchParams(wanted)}`);
            }}
          />
        </div>
      )}
    </>
  );
}
