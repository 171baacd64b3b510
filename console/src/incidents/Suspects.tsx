import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { clock, duration, moment, plural, unix } from "../lib/format";
import { SURE, sureness, type Trail } from "../lib/trail";
import { useMay } from "../signin/session";
import { useAct } from "./useAct";

type Suspect = Schemas["TrailSuspect"];
const FIRST = 3;
const FEW = 4;

interface Props {
  trail: Trail;
  incident: number;
  now: number;
}

/** Who may be the cause, the likeliest first, why it is believed, and why the others are less likely. */
export function Suspects({ trail, incident, now }: Props) {
  const [all, setAll] = useState(false);
  const may = useMay("operator");
  const shown = all ? trail.suspects : trail.suspects.slice(0, FIRST);
  const left = trail.suspects.length - shown.length;
  return (
    <section aria-label="Suspects" className="min-w-0 font-dense">
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">
        {trail.suspects.length ? "Suspects, the likeliest first" : "No suspects"}
      </h2>
      <ol className="hairline border-base-300 border-y">
        {shown.map((one) => (
          <One key={one.rank} one={one} incident={may ? incident : undefined} chosen={trail.cause?.rank === one.rank} />
        ))}
      </ol>
      {left > 0 && (
        <button type="button" className="link touch min-h-6 text-sm" onClick={() => setAll(true)}>
          {plural(left, "less likely one")}
        </button>
      )}
      <Cause trail={trail} incident={incident} now={now} may={may} />
    </section>
  );
}

function One({ one, incident, chosen }: { one: Suspect; incident: number | undefined; chosen: boolean }) {
  const [whole, setWhole] = useState(false);
  const { act, problem } = useAct(() => undefined);
  const first = one.rank === 1;
  const told = one.because.filter((reason) => !said(reason.text, one));
  const reasons = whole ? told : told.slice(0, first ? FEW : 1);
  const left = told.length - reasons.length;
  const since = unix(one.since);
  return (
    <li className="grid grid-cols-[18px_minmax(0,1fr)_auto] gap-x-2 py-1.5">
      <span className={first && one.sure >= SURE ? "font-semibold text-error" : "font-semibold text-ink-2"}>
        {one.rank}
      </span>
      <span className="min-w-0 break-words">
        <span className="font-semibold text-base">{one.title}</span>
        <span className="block">{one.what}</span>
        <span className="block text-ink-2">
          since {clock(since, true)}, give or take {duration(one.uncertainty_seconds)}
          {one.until && `, until ${clock(unix(one.until))}`}
        </span>
        {one.less && <span className="block text-ink-2">less likely: {one.less}</span>}
        <ul className="mt-0.5">
          {reasons.map((reason) => (
            <li key={`${reason.at} ${reason.text}`} className="text-sm">
              <Link className="block min-h-6 py-0.5 hover:underline" to={reason.link ?? ""}>
                {reason.at && <span className="text-ink-2 tabular-nums">{clock(unix(reason.at), true)} </span>}
                {reason.text}
              </Link>
            </li>
          ))}
        </ul>
        {left > 0 && (
          <button type="button" className="link touch min-h-6 text-sm" onClick={() => setWhole(true)}>
            {plural(left, "more reason")}
          </button>
        )}
        {incident !== undefined && !chosen && (
          <button
            type="button"
            className="btn btn-xs touch mt-1 block"
            aria-label={`It was this: ${one.title}`}
            onClick={() =>
              void act(
                got(
                  api.POST("/api/v1/incidents/{number}/cause", {
                    params: { path: { number: incident } },
                    body: { suspect: one.rank },
                  }),
                ),
              )
            }
          >
            It was this
          </button>
        )}
        {problem && (
          <span role="alert" className="block text-error">
            {problem}
          </span>
        )}
      </span>
      <span className="text-right font-semibold tabular-nums" title={sureness(one.sure)}>
        {one.sure < 0.01 ? "under 1 %" : `${Math.round(one.sure * 100)} %`}
      </span>
    </li>
  );
}

/** Whether a reason only says again what stands above it. */
function said(reason: string, one: Suspect): boolean {
  return reason === one.what || reason === `${one.title}: ${one.what}`;
}

/** What people said of the cause: of this incident, and of those alike; and where to say what else it was. */
function Cause({ trail, incident, now, may }: Props & { may: boolean }) {
  const [asks, setAsks] = useState(false);
  const [text, setText] = useState("");
  const { act, problem } = useAct(() => {
    setAsks(false);
    setText("");
  });
  const params = { path: { number: incident } };
  return (
    <div className="mt-2 text-sm">
      {trail.cause && (
        <p>
          {trail.cause.who} said, {moment(unix(trail.cause.at), now)}: the cause was{" "}
          <span className="font-semibold">{trail.cause.text}</span>{" "}
          {may && (
            <button
              type="button"
              className="link touch min-h-6"
              onClick={() => void act(got(api.DELETE("/api/v1/incidents/{number}/cause", { params })))}
            >
              take it back
            </button>
          )}
        </p>
      )}
      {trail.before.map((one) => (
        <p key={one.incident} className="text-ink-2">
          Last time,{" "}
          <Link className="link" to={`/incidents/${one.incident}`}>
            incident {one.incident}
          </Link>
          , it was {one.text}
        </p>
      ))}
      {may && !asks && (
        <button type="button" className="link touch min-h-6" onClick={() => setAsks(true)}>
          {trail.suspects.length ? "It was something else …" : "Say what it was …"}
        </button>
      )}
      {may && asks && (
        <form
          className="flex flex-wrap items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            const body = { other: text.trim() };
            if (body.other) void act(got(api.POST("/api/v1/incidents/{number}/cause", { params, body })));
          }}
        >
          <label className="flex grow flex-col gap-0.5">
            What the cause was
            {/* biome-ignore lint/a11y/noAutofocus: whoever pressed the button is about to type */}
            <input className="input input-sm w-full" autoFocus value={text} onChange={(e) => setText(e.target.value)} />
          </label>
          <button type="submit" className="btn btn-sm" disabled={!text.trim()}>
            Keep it
          </button>
        </form>
      )}
      {problem && (
        <p role="alert" className="text-error">
          {problem}
        </p>
      )}
    </div>
  );
}
