import { useState } from "react";
import { api, got, type IncidentDetail } from "../api/client";
import { moment, unix } from "../lib/format";
import { usePeople } from "../lib/queries";
import { useSpan } from "../lib/useSpan";
import { useMay, useSession } from "../signin/session";
import { CloseIt } from "./CloseIt";
import { useAct } from "./useAct";

type Asks = "" | "hand over" | "note" | "quiet" | "close" | "join";
const QUIET = [
  ["+1h", "for an hour"],
  ["+4h", "for 4 hours"],
  ["+12h", "for 12 hours"],
  ["", "until it is worse"],
] as const;

/** What can be done, in the order of use, and who has it. */
export function Verbs({ incident }: { incident: IncidentDetail }) {
  const may = useMay("operator");
  const { me } = useSession();
  const { now } = useSpan();
  const [asks, setAsks] = useState<Asks>("");
  const { act: done, problem } = useAct(() => setAsks(""));
  const path = { number: incident.id };
  const open = incident.state === "open";
  const who = incident.taken_by
    ? `${incident.taken_by} has it since ${moment(unix(incident.taken_at ?? incident.opened_at), now)}`
    : open
      ? "nobody has it"
      : incident.closing_note
        ? `closed by ${incident.closed_by}: ${incident.closing_note}`
        : "";
  const toggle = (wanted: Asks) => setAsks(asks === wanted ? "" : wanted);
  return (
    <div className="mt-2">
      <div className="flex flex-wrap items-center gap-2">
        {may && open && (
          <>
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={incident.taken_by === me.name}
              onClick={() =>
                void done(got(api.POST("/api/v1/incidents/{number}/take", { params: { path }, body: { note: "" } })))
              }
            >
              I have it
            </button>
            <Toggle name="Hand over" on={asks === "hand over"} press={() => toggle("hand over")} />
            <Toggle name="Note" on={asks === "note"} press={() => toggle("note")} />
            <Toggle name="Quiet until …" on={asks === "quiet"} press={() => toggle("quiet")} />
            <Toggle name="Close" on={asks === "close"} press={() => toggle("close")} />
            <Toggle name="Join …" on={asks === "join"} press={() => toggle("join")} />
          </>
        )}
        {may && !open && !incident.joined_into && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void done(got(api.POST("/api/v1/incidents/{number}/reopen", { params: { path } })))}
          >
            Open it again
          </button>
        )}
        <span className="font-dense text-ink-2">{who}</span>
      </div>
      {asks === "hand over" && (
        <HandOver
          send={(to, note) =>
            void done(got(api.POST("/api/v1/incidents/{number}/hand-over", { params: { path }, body: { to, note } })))
          }
        />
      )}
      {asks === "note" && (
        <Words
          label="What you found, or did"
          button="Keep the note"
          send={(text) =>
            void done(got(api.POST("/api/v1/incidents/{number}/note", { params: { path }, body: { text } })))
          }
        />
      )}
      {asks === "close" && <CloseIt incident={incident} act={(work) => void done(work)} />}
      {asks === "join" && (
        <Words
          label="The number of the incident that is a part of this one"
          button="Join it"
          send={(text) =>
            void done(
              got(api.POST("/api/v1/incidents/{number}/join", { params: { path }, body: { with: Number(text) } })),
            )
          }
        />
      )}
      {asks === "quiet" && (
        <div className="mt-2 flex flex-wrap items-center gap-2">
          <span>Tell nobody</span>
          {QUIET.map(([until, words]) => (
            <button
              key={words}
              type="button"
              className="btn btn-sm"
              onClick={() =>
                void done(
                  got(
                    api.POST("/api/v1/incidents/{number}/snooze", {
                      params: { path },
                      body: until ? { until, until_worse: false } : { until_worse: true },
                    }),
                  ),
                )
              }
            >
              {words}
            </button>
          ))}
        </div>
      )}
      {problem && (
        <p role="alert" className="mt-1 text-error">
          {problem}
        </p>
      )}
    </div>
  );
}

function Toggle({ name, on, press }: { name: string; on: boolean; press: () => void }) {
  return (
    <button type="button" className={`btn btn-sm ${on ? "btn-active" : ""}`} aria-expanded={on} onClick={press}>
      {name}
    </button>
  );
}

function Words({ label, button, send }: { label: string; button: string; send: (text: string) => void }) {
  const [text, setText] = useState("");
  return (
    <form
      className="mt-2 flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (text.trim()) send(text.trim());
      }}
    >
      <label className="flex max-w-xl grow flex-col gap-0.5 text-sm">
        {label}
        {/* biome-ignore lint/a11y/noAutofocus: whoever pressed the button is about to type */}
        <input className="input input-sm w-full" autoFocus value={text} onChange={(e) => setText(e.target.value)} />
      </label>
      <button type="submit" className="btn btn-primary btn-sm" disabled={!text.trim()}>
        {button}
      </button>
    </form>
  );
}

function HandOver({ send }: { send: (to: string, note: string) => void }) {
  const people = usePeople();
  const [to, setTo] = useState("");
  const [note, setNote] = useState("");
  if (people.data?.items.length === 0)
    return <p className="mt-2">Nobody can be told yet: add people and their channels under Settings.</p>;
  return (
    <form
      className="mt-2 flex flex-wrap items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (to) send(to, note);
      }}
    >
      <label className="flex flex-col gap-0.5 text-sm">
        To
        <select className="select select-sm w-40" value={to} onChange={(e) => setTo(e.target.value)}>
          <option value="">choose …</option>
          {people.data?.items.map((p) => (
            <option key={p.name}>{p.name}</option>
          ))}
        </select>
      </label>
      <label className="flex max-w-md grow flex-col gap-0.5 text-sm">
        What they should know
        <input className="input input-sm w-full" value={note} onChange={(e) => setNote(e.target.value)} />
      </label>
      <button type="submit" className="btn btn-primary btn-sm" disabled={!to}>
        Hand it over
      </button>
    </form>
  );
}
