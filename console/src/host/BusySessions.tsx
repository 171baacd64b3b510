import { api, got } from "../api/client";
import { duration, moment, plural, unix } from "../lib/format";
import { Empty } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { Bar, BusyRow, BusyTable, type Heading, NotYet, useBusy } from "./BusyTable";
import { has, type Shared } from "./Processes";

/** Sessions of the host's services, or their statements: who held others first, then the longest at work. */
export function BusySessions({
  host,
  span,
  text,
  of,
  whoRan,
  process,
}: Shared & {
  of: "session" | "statement";
  whoRan: (statement: string) => void;
  process: (pid: string) => void;
}) {
  const answer = useBusy("sessions", host, of, span, (asked) =>
    got(
      api.GET("/api/v1/hosts/{name}/sessions", {
        params: { path: { name: host }, query: { ...asked, of } },
      }),
    ),
  );
  if (answer.isError || !answer.data) return <NotYet answer={answer} what={`the sessions of ${host}`} />;
  // What is asked by a statement without its values is found by how it begins.
  const begins = text.split("?")[0] ?? "";
  const shown = answer.data.items.filter((one) =>
    has(begins, one.session, one.user, one.application, one.client, one.statement, one.service),
  );
  if (!answer.data.items.length)
    return <Empty title="No session at work was kept in this span.">Services that tell of sessions do.</Empty>;
  const most = Math.max(...answer.data.items.map((one) => one.seconds), 1);
  const headings: Heading[] = [
    { name: of },
    { name: "at work", right: true },
    { name: "held others", right: true },
    { name: "waited", right: true, wide: true },
    { name: "seen from", wide: true },
    { name: "to", wide: true },
    { name: "leads to" },
  ];
  return (
    <>
      <BusyTable label={`Sessions of ${host}`} headings={headings}>
        {shown.map((one) => (
          <BusyRow
            key={`${one.service} ${one.session} ${one.statement} ${one.user} ${one.first_at}`}
            headings={headings}
            cells={[
              <span key="name" className="block max-w-[64ch]">
                {one.held_seconds > 0 && <Signal state="critical" size={15} label="held others" />}{" "}
                {of === "session" && (
                  <>
                    <span className="font-semibold">{one.application || one.user || "session"}</span>{" "}
                    <span className="text-ink-2">
                      {one.session}, {one.user}
                      {one.client && ` from ${one.client}`}
                    </span>
                  </>
                )}
                <span className={of === "statement" ? "" : "block truncate text-ink-2 text-xs"} title={one.statement}>
                  {one.statement}
                </span>
                {of === "statement" && (
                  <span className="block text-ink-2 text-xs">
                    {plural(one.sessions, "session")}, last {one.user} in {one.service}
                  </span>
                )}
              </span>,
              <Bar key="work" part={one.seconds / most}>
                {duration(one.seconds)}
              </Bar>,
              one.held_seconds > 0 ? (
                <span key="held" className="font-semibold text-state-critical">
                  {duration(one.held_seconds)}
                </span>
              ) : (
                ""
              ),
              one.waited_seconds > 0 ? duration(one.waited_seconds) : "",
              moment(unix(one.first_at), span.end, true),
              moment(unix(one.last_at), span.end, true),
              of === "statement" ? (
                <button key="who" type="button" className="link touch" onClick={() => whoRan(one.statement)}>
                  who ran it
                </button>
              ) : /^\d+$/.test(one.session) ? (
                <button key="process" type="button" className="link touch" onClick={() => process(one.session)}>
                  its process
                </button>
              ) : (
                ""
              ),
            ]}
          />
        ))}
      </BusyTable>
      <p className="mt-2 font-dense text-ink-2 text-xs">
        From {plural(answer.data.looked, "look")}: sessions that work or wait are kept when that changes, and every five
        minutes. “Held others” adds up all who waited.
      </p>
    </>
  );
}
