import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { paragraphs } from "../alerts/Alert";
import { api, got, type Schemas } from "../api/client";
import { duration, moment, unix } from "../lib/format";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";

/** What whoever has the link of a message sees and can do, without signing in. Looking at it changes nothing. */
export function Component() {
  const { token = "", id = "" } = useParams();
  const asked = useQuery({
    queryKey: ["link", token],
    queryFn: () => got(api.GET("/api/v1/links/{token}", { params: { path: { token } } })),
    retry: false,
    refetchInterval: 15_000,
  });
  return (
    <main className="mx-auto max-w-2xl px-4 py-6">
      {asked.isError && (
        <>
          <Failure error={asked.error} />
          <a className="link" href={`/incidents/${id}`}>
            Open incident {id} in the console
          </a>
        </>
      )}
      {!asked.data && !asked.isError && <Waiting what="the incident" />}
      {asked.data && <Asked incident={asked.data} token={token} />}
    </main>
  );
}

function Asked({ incident, token }: { incident: Schemas["LinkAsked"]; token: string }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const [to, setTo] = useState("");
  const [said, setSaid] = useState("");
  const [problem, setProblem] = useState("");
  const now = Date.now() / 1000;
  const act = (act: Schemas["LinkAct"]["act"], more: Partial<Schemas["LinkAct"]> = {}) => {
    got(api.POST("/api/v1/links/{token}", { params: { path: { token } }, body: { act, name, text, ...more } }))
      .then((answer) => {
        setSaid(answer.detail);
        setProblem("");
        return client.invalidateQueries({ queryKey: ["link"] });
      })
      .catch((error: Error) => setProblem(error.message));
  };
  const open = incident.state === "open";
  return (
    <>
      {incident.practice && <p className="mb-2 bg-base-200 p-2 font-semibold">This is practice: nothing is wrong.</p>}
      <h1 className="flex items-start gap-2 font-semibold text-xl">
        <Signal state={open ? incident.severity : "ok"} size={24} />
        <span>{incident.title}</span>
      </h1>
      <p className="mt-1 text-ink-2">
        incident {incident.incident}, {open ? incident.severity : "closed"}, since{" "}
        {moment(unix(incident.opened_at), now)} ({duration(now - unix(incident.opened_at))})
      </p>
      {incident.hurts.map((hurt) => (
        <p key={hurt.application} className="mt-1">
          <strong>{hurt.application}</strong>: {hurt.how}
        </p>
      ))}
      <p className="mt-1">{incident.hosts.join(", ")}</p>
      <p className="mt-3 font-semibold text-lg">
        {incident.taken_by ? `${incident.taken_by} has it` : "Nobody has it"}
      </p>
      {said && (
        <p role="status" className="mt-2 border-success border-l-4 pl-3">
          {said}
        </p>
      )}
      {problem && (
        <p role="alert" className="mt-2 border-error border-l-4 pl-3 text-error">
          {problem}
        </p>
      )}
      {open && (
        <div className="mt-3 flex flex-col gap-3">
          {incident.person === null && (
            <label className="flex flex-col gap-0.5">
              Who are you? Several people read the channel that this was sent to.
              <input className="input w-full" value={name} onChange={(e) => setName(e.target.value)} />
            </label>
          )}
          <button type="button" className="btn btn-primary btn-lg" onClick={() => act("take")}>
            {incident.person ? `I, ${incident.person}, have it` : "I have it"}
          </button>
          <div className="flex flex-wrap gap-2">
            <button type="button" className="btn" onClick={() => act("snooze", { until: "+1h" })}>
              Quiet for an hour
            </button>
            <button type="button" className="btn" onClick={() => act("snooze")}>
              Quiet until it is worse
            </button>
            {incident.people.length > 0 && (
              <>
                <select
                  className="select w-40"
                  aria-label="Hand over to"
                  value={to}
                  onChange={(e) => setTo(e.target.value)}
                >
                  <option value="">Hand over to …</option>
                  {incident.people.map((one) => (
                    <option key={one}>{one}</option>
                  ))}
                </select>
                <button type="button" className="btn" disabled={!to} onClick={() => act("hand-over", { to })}>
                  Hand over
                </button>
              </>
            )}
          </div>
          <div className="flex gap-2">
            <input
              className="input w-full"
              placeholder="what you found, or did"
              aria-label="Note"
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
            <button type="button" className="btn" disabled={!text.trim()} onClick={() => act("note")}>
              Note
            </button>
          </div>
        </div>
      )}
      {incident.advice.map((advice) => (
        <section key={advice} className="mt-5">
          <h2 className="font-semibold">What to do</h2>
          <p className="whitespace-pre-line">{paragraphs(advice)}</p>
        </section>
      ))}
      <p className="mt-6">
        <a className="link" href={`/incidents/${incident.incident}`}>
          Open it in the console
        </a>{" "}
        <span className="text-ink-2">
          (you have to sign in there). This link is good until {moment(unix(incident.until), now)}.
        </span>
      </p>
    </>
  );
}
