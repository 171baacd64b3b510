import { useState } from "react";
import { Link } from "react-router";
import { Pin } from "../dashboards/Pin";
import { eventsPanel } from "../dashboards/pinned";
import { EVENT_BARS, MOST_EVENTS } from "../lib/asks";
import { onlyWith } from "../lib/filterText";
import { plural } from "../lib/format";
import { useEvents, useHistogram } from "../lib/queries";
import { useSpan } from "../lib/useSpan";
import { Lanes } from "../ui/Lanes";
import { Empty, Failure, Waiting } from "../ui/Note";
import { EventLane } from "../ui/StateLane";
import { AskBar } from "./AskBar";
import { Export } from "./Export";
import { List } from "./List";
import { Missing } from "./Missing";
import { EventsNav } from "./Nav";
import { useAsked } from "./useAsked";
import { useFollowed } from "./useFollowed";

export function Component() {
  const { span, now, brush } = useSpan();
  const asked = useAsked();
  const { text, where, saved, filter, keep } = asked;
  const [limit, setLimit] = useState(MOST_EVENTS);
  const [following, setFollowing] = useState(false);
  const events = useEvents(text, filter, span, limit, saved);
  const histogram = useHistogram(text, filter, span, EVENT_BARS, saved);
  const followed = useFollowed(following, text, filter, saved);
  const only = (attribute: string, value: unknown, has: boolean) =>
    keep({ where: onlyWith(where, attribute, value, has) });
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">Events</h1>
      <EventsNav />
      <AskBar asked={asked} found={histogram.data && plural(histogram.data.total, "event")}>
        <button
          type="button"
          className={`btn btn-sm ${following ? "btn-primary" : ""}`}
          aria-pressed={following}
          onClick={() => setFollowing(!following)}
        >
          {following ? "Following" : "Follow"}
        </button>
        {!saved && <Pin panel={() => eventsPanel("events", text, filter)} />}
        <Export asked={asked} span={span} total={histogram.data?.total} />
      </AskBar>
      {events.isError && <Failure error={events.error} />}
      <Lanes
        start={span.start}
        end={span.end}
        onDraw={brush}
        onClear={() => undefined}
        label="Events over time; drag to look closer"
      >
        <EventLane answer={histogram.data} name="How many" />
      </Lanes>
      {following && (
        <section aria-label="Events as they come" className="mt-2 border-primary border-l-4 pl-3">
          <p className="flex flex-wrap items-center gap-3" role="status">
            <button type="button" className="btn btn-xs" onClick={followed.paused ? followed.goOn : followed.pause}>
              {followed.paused ? "Go on" : "Pause"}
            </button>
            {followed.lost
              ? "The service is not heard; what comes meanwhile stands in the list below once it is heard again."
              : followed.paused
                ? `Paused: ${plural(followed.held, "event")} came since and are held.`
                : `As they come: ${plural(followed.events.length, "event")} since you began to follow.`}
          </p>
          {followed.events.length > 0 && <List events={followed.events} now={now} span={span} only={only} />}
        </section>
      )}
      {!events.data && !events.isError && <Waiting what="the events" lines={12} />}
      {events.data?.items.length === 0 && (
        <Empty title="No event matches in this span">
          Choose a longer span above, or take words away from the filter. Whether lines come at all, and from where,
          stands under{" "}
          <Link className="link" to="/events/sources">
            Sources
          </Link>
          .
          <Missing start={span.start} end={span.end} />
        </Empty>
      )}
      {events.data && events.data.items.length > 0 && !following && (
        <List events={events.data.items} now={now} span={span} only={only} />
      )}
      {events.data?.next && !following && (
        <button
          type="button"
          className="btn btn-sm mt-3"
          disabled={limit >= 1000}
          onClick={() => setLimit(Math.min(1000, limit * 2))}
        >
          {limit >= 1000 ? "Choose a shorter span to see older ones" : `Show more than ${plural(limit, "event")}`}
        </button>
      )}
    </>
  );
}
