import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type Incident, type Schemas } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { listPanel } from "../dashboards/pinned";
import { duration, moment, plural, unix } from "../lib/format";
import { useIncidents, usePeople } from "../lib/queries";
import { useSpan, withSpan } from "../lib/useSpan";
import { useWhere } from "../lib/useWhere";
import { useMay } from "../signin/session";
import { FilterField } from "../ui/FilterField";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { called, inOrder, standing, stateOf } from "./states";
import { IncidentTabs } from "./Tabs";

const ATTRIBUTES = ["severity", "application", "rule", "site", "taken", "taken_by", "number"];
const GRID =
  "md:grid md:grid-cols-[24px_24px_52px_120px_minmax(0,3fr)_minmax(0,1.2fr)_80px_90px_130px] gap-x-3 items-center";

export function Component() {
  const { now } = useSpan();
  const [where, keepWhere] = useWhere();
  const open = useIncidents("open", where);
  const closed = useIncidents("closed", where);
  const [chosen, setChosen] = useState<number[]>([]);
  if (open.isError) return <Failure error={open.error} again={() => void open.refetch()} />;
  if (!open.data || !closed.data) return <Waiting what="the incidents" lines={10} />;
  const rows = inOrder(open.data.items);
  const there = chosen.filter((id) => rows.some((row) => row.id === id));
  const choose = (id: number) => setChosen(there.includes(id) ? there.filter((one) => one !== id) : [...there, id]);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-start gap-4">
        <IncidentTabs />
        <FilterField
          where={where}
          keep={keepWhere}
          placeholder='filter, like: severity eq "critical" and application eq "Booking"'
          found={where ? plural(rows.length + closed.data.items.length, "incident") : undefined}
          attributes={ATTRIBUTES}
        />
        <span className="py-1 font-dense text-sm">
          <Pin panel={() => listPanel("incidents", where)} />
        </span>
      </div>
      {there.length > 0 && <Together chosen={there} done={() => setChosen([])} />}
      {rows.length === 0 ? (
        <Empty title={where ? "No open incident passes the filter" : "Nothing is wrong that anybody has to deal with"}>
          Alerts that share one cause come here as one incident, with whom it hurts and who has it.
        </Empty>
      ) : (
        <Section title={`Open, ${rows.length}`} incidents={rows} now={now} chosen={there} choose={choose} />
      )}
      {closed.data.items.length > 0 && (
        <Section title={`Closed, ${closed.data.items.length}`} incidents={closed.data.items} now={now} />
      )}
    </>
  );
}

function Section({
  title,
  incidents,
  now,
  chosen,
  choose,
}: {
  title: string;
  incidents: Incident[];
  now: number;
  chosen?: number[];
  choose?: (id: number) => void;
}) {
  const [parameters] = useSearchParams();
  return (
    <section className="mb-6 font-dense" aria-label={title}>
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">{title}</h2>
      <div className={`hidden ${GRID} border-base-300 border-b pb-1 text-ink-2 text-sm`}>
        <span />
        <span />
        <span>no.</span>
        <span>since</span>
        <span>what</span>
        <span>touches</span>
        <span className="text-right">alerts</span>
        <span className="text-right">{choose ? "for" : "lasted"}</span>
        <span>who has it</span>
      </div>
      <div className="hairline border-base-300 border-b">
        {incidents.map((i) => {
          const said = standing(i, now);
          const end = i.recovered_at ?? i.closed_at;
          return (
            <div key={i.id} className="relative py-1.5 hover:bg-base-200">
              <Narrow incident={i} said={said} now={now} />
              <div className={`hidden ${GRID}`}>
                <span>
                  {choose && (
                    <input
                      type="checkbox"
                      className="checkbox checkbox-sm relative z-10"
                      aria-label={`Choose incident ${i.id}`}
                      checked={chosen?.includes(i.id) ?? false}
                      onChange={() => choose(i.id)}
                    />
                  )}
                </span>
                <Signal state={stateOf(i)} size={18} label={said || i.severity} />
                <span className="text-ink-2">{i.id}</span>
                <span>{moment(unix(i.opened_at), now)}</span>
                <span className="min-w-0">
                  <Link
                    to={withSpan(`/incidents/${i.id}`, parameters)}
                    className="line-clamp-2 font-semibold after:absolute after:inset-0"
                  >
                    {called(i)}
                  </Link>
                  {i.likely && i.state === "open" && (
                    <span className="line-clamp-1 text-ink-2 text-sm" title={i.likely.sentence}>
                      likely {i.likely.suspect}, {Math.round(i.likely.sure * 100)} %{" "}
                    </span>
                  )}
                  {said && said !== "closed" && <span className="text-ink-2 text-sm">{said} </span>}
                  {i.told_nobody && <span className="font-semibold text-error text-sm">nobody is told of it </span>}
                </span>
                <span className="grow-cell">{i.hurts.map((h) => h.application).join(", ") || "–"}</span>
                <span className="text-right">
                  {i.alert_count.toLocaleString("en")}
                  {i.state === "open" && i.open_count < i.alert_count && (
                    <span className="block text-ink-2 text-sm">{i.open_count.toLocaleString("en")} open</span>
                  )}
                </span>
                <span className="text-right">{duration((end ? unix(end) : now) - unix(i.opened_at))}</span>
                <span className="grow-cell text-ink-2">{i.taken_by ?? (i.state === "open" ? "nobody" : "")}</span>
              </div>
            </div>
          );
        })}
      </div>
    </section>
  );
}

/** An incident on a telephone: what and whom it touches, since when, who has it. */
function Narrow({ incident: i, said, now }: { incident: Incident; said: string; now: number }) {
  return (
    <span className="grid grid-cols-[24px_minmax(0,1fr)_auto] gap-x-2 md:hidden">
      <Signal state={stateOf(i)} size={18} label={said || i.severity} />
      <Link to={`/incidents/${i.id}`} className="touch flex items-center font-semibold">
        <span className="line-clamp-3">{called(i)}</span>
      </Link>
      <span className="text-right text-sm">
        {moment(unix(i.opened_at), now)}
        <span className="block text-ink-2">{i.taken_by ?? (i.state === "open" ? "nobody" : said)}</span>
        {i.told_nobody && <span className="block text-error">told nobody</span>}
      </span>
    </span>
  );
}

/** The same for several incidents at once. */
function Together({ chosen, done }: { chosen: number[]; done: () => void }) {
  const client = useQueryClient();
  const may = useMay("operator");
  const people = usePeople();
  const [text, setText] = useState("");
  const [to, setTo] = useState("");
  const [problems, setProblems] = useState<string[]>([]);
  const act = (act: Schemas["Together"]["act"], more: Partial<Schemas["Together"]> = {}) => {
    got(api.POST("/api/v1/incidents/together", { body: { incidents: chosen, act, text, ...more } }))
      .then((answer) => {
        const wrong = answer.items.flatMap((one) => (one.problem ? [one.problem] : []));
        setProblems(wrong);
        if (!wrong.length) done();
        return client.invalidateQueries({ queryKey: ["incidents"] });
      })
      .catch((error: Error) => setProblems([error.message]));
  };
  if (!may) return null;
  return (
    <div className="mb-3 flex flex-wrap items-center gap-2 border-primary border-l-4 py-1 pl-3">
      <span className="font-semibold">{plural(chosen.length, "incident")} chosen</span>
      <button type="button" className="btn btn-primary btn-sm" onClick={() => act("take")}>
        I have them
      </button>
      <select
        className="select select-sm w-40"
        aria-label="Hand over to"
        value={to}
        onChange={(e) => {
          setTo(e.target.value);
          if (e.target.value) act("hand-over", { to: e.target.value });
        }}
      >
        <option value="">Hand over to …</option>
        {people.data?.items.map((p) => (
          <option key={p.name}>{p.name}</option>
        ))}
      </select>
      <button type="button" className="btn btn-sm" onClick={() => act("snooze", { until: "+2h" })}>
        Quiet for 2 h
      </button>
      <input
        className="input input-sm w-64"
        placeholder="a note, or why it is closed"
        aria-label="Note"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <button type="button" className="btn btn-sm" disabled={!text} onClick={() => act("note")}>
        Note
      </button>
      <button type="button" className="btn btn-sm" disabled={!text} onClick={() => act("close")}>
        Close
      </button>
      {problems.map((problem) => (
        <p key={problem} role="alert" className="w-full text-error">
          {problem}
        </p>
      ))}
    </div>
  );
}
