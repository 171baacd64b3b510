import { Refused } from "../api/client";
import { counted } from "../lib/format";
import { SURE, spanOf, sureness, type Trail } from "../lib/trail";
import { Failure, Waiting } from "../ui/Note";
import { Stairs } from "./Stairs";
import { Suspects } from "./Suspects";
import type { useTrail } from "./useTrail";

interface Props {
  trail: ReturnType<typeof useTrail>["trail"];
  incident: number;
  now: number;
}

/** The trail of an incident: its likely cause in one sentence, the lanes as they departed, and the suspects. */
export function TrailOf({ trail, incident, now }: Props) {
  if (trail.isError && !trail.data) {
    // Practice, and what is about a channel, has no trail: nothing is missing there.
    if (trail.error instanceof Refused && trail.error.status === 409) return null;
    return <Failure error={trail.error} again={() => void trail.refetch()} />;
  }
  if (!trail.data) {
    return (
      <div className="min-h-96">
        <Waiting what="the trail" lines={6} />
      </div>
    );
  }
  return <Shown trail={trail.data} incident={incident} now={now} />;
}

function Shown({ trail, incident, now }: { trail: Trail; incident: number; now: number }) {
  const span = spanOf(trail);
  const named = trail.suspects.length > 0 && trail.sure >= SURE;
  return (
    <section aria-label="Trail" className="mb-6">
      <p className="max-w-[100ch] border-primary border-l-4 pl-3 text-lg" data-trail>
        {trail.sentence}{" "}
        <span className="whitespace-nowrap font-dense text-base text-ink-2">{named && sureness(trail.sure)}</span>
      </p>
      {named && trail.suspects[0] && (
        <p className="mt-1 max-w-[100ch] pl-4">
          <span className="font-dense font-semibold text-ink-2 text-sm">Do: </span>
          {trail.suspects[0].advice}
        </p>
      )}
      <div className="mt-3 grid gap-x-8 gap-y-4 md:grid-cols-[minmax(0,7fr)_minmax(0,4fr)]">
        <div className="min-w-0">
          <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">
            In the order in which they departed from their usual
            {trail.departed_count > 0 && `, of ${counted(trail.departed_count).toLowerCase()} that did`}
          </h2>
          <Stairs trail={trail} span={span} />
          {trail.departed_count === 0 && <p className="text-ink-2">Nothing left its usual around this time.</p>}
          <LookedAt trail={trail} />
        </div>
        <Suspects trail={trail} incident={incident} now={now} />
      </div>
    </section>
  );
}

function LookedAt({ trail }: { trail: Trail }) {
  const looked = trail.looked_at;
  const leaning = Object.entries(trail.leaning);
  return (
    <p className="mt-1 font-dense text-ink-2 text-sm">
      {looked.hosts.toLocaleString("en")} hosts, {looked.series.toLocaleString("en")} series and{" "}
      {looked.events.toLocaleString("en")} events looked at in {looked.seconds.toFixed(1)} s
      {looked.left_out > 0 && `; ${looked.left_out.toLocaleString("en")} left out`}
      {leaning.length > 0 &&
        `; what people said before moves the odds of ${leaning.map(([kind, by]) => `a ${kind} by ${Math.exp(by).toFixed(1)} ×`).join(", ")}`}
    </p>
  );
}
