import { Link, useSearchParams } from "react-router";
import type { Event, Group, Host, Incident } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { statesPanel } from "../dashboards/pinned";
import { clock, duration, moment, plural, unix } from "../lib/format";
import { nodeOf, pageOf } from "../lib/nodes";
import { useAlerts, useEvents, useGroups, useHosts, useIncidents } from "../lib/queries";
import { useSpan, withSpan } from "../lib/useSpan";
import { By, useBy } from "../tree/By";
import { RollUp } from "../tree/RollUp";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Proportion, Ribbon } from "../ui/Ribbon";
import { Signal } from "../ui/Signal";
import { ChangedLately, RunningOut, Stopped } from "./Aside";
import { beneath, boardRows, headline, type Row, someOf } from "./board";
import { hurtWords } from "./changed";

const DAY = 86_400;

export function Component() {
  const { now } = useSpan();
  const open = useAlerts({ state: "open" });
  const incidents = useIncidents("open");
  const hosts = useHosts();
  if (open.isError) return <Failure error={open.error} again={() => void open.refetch()} />;
  if (incidents.isError) return <Failure error={incidents.error} again={() => void incidents.refetch()} />;
  if (!open.data || !hosts.data || !incidents.data) return <Waiting what="the open incidents" lines={8} />;
  const known = hosts.data.items;
  const rows = boardRows(incidents.data.items, open.data.items, known);
  const silent = known.filter((h) => h.state === "silent").length;
  return (
    <>
      <h1 className="font-semibold text-xl">{headline(rows, silent)}</h1>
      <p className="mb-2 text-ink-2 text-lg">{known.length > 0 && hurtWords(incidents.data.items)}</p>
      <Board rows={rows} now={now} hosts={known.length} whole={hosts.whole} />
      <Beneath known={known} incidents={incidents.data.items} now={now} />
    </>
  );
}

/** What is asked for once the board is there. */
function Beneath({ known, incidents, now }: { known: Host[]; incidents: Incident[]; now: number }) {
  const end = Math.floor(now / 60) * 60;
  const groups = useGroups(end - DAY, end + 60);
  const changes = useEvents(
    "",
    'source eq "change"',
    { from: "", to: "", start: end - DAY, end: end + 60, live: true },
    300,
  );
  const [by, chooseBy] = useBy();
  return (
    <>
      <div className="mt-5 grid gap-x-8 gap-y-4 md:grid-cols-3">
        <ChangedLately events={changes.data?.items ?? []} incidents={incidents} now={now} />
        <RunningOut now={now} />
        <Stopped hosts={known} now={now} />
      </div>
      <h2 className="mt-6 mb-1 font-dense text-ink-2">
        Which layer, whose problem: by <By by={by} choose={chooseBy} hosts={known} />{" "}
        <span className="text-sm">
          <Pin panel={() => statesPanel(by, undefined, `By ${by}`)} />
        </span>
      </h2>
      {known.length > 0 && <RollUp by={by} />}
      <h2 className="mt-5 mb-1 font-dense font-semibold text-ink-2 text-sm">Groups, last 24 hours</h2>
      {groups.data?.items.length ? (
        <div className="hairline border-base-300 border-y font-dense">
          {groups.data.items.map((group) => (
            <GroupRow
              key={group.name}
              group={group}
              end={end + 60}
              change={changes.data?.items.find((e) =>
                known.some((h) => h.name === e.host && h.groups.includes(group.name)),
              )}
            />
          ))}
        </div>
      ) : (
        <Empty title="No groups yet">
          A host joins a group when it is enrolled with a key that names one:{" "}
          <Link className="link" to="/settings">
            make an enrolment key
          </Link>
          .
        </Empty>
      )}
      <Legend />
    </>
  );
}

const BOARD =
  "hidden md:grid md:grid-cols-[28px_64px_minmax(0,1.5fr)_minmax(0,2.6fr)_minmax(0,2.5fr)_minmax(0,1.2fr)_minmax(0,0.9fr)] gap-x-4";

function Board({ rows, now, hosts, whole }: { rows: Row[]; now: number; hosts: number; whole: boolean }) {
  const [parameters] = useSearchParams();
  const past = useIncidents("closed");
  if (!rows.length) {
    const last = past.data?.items[0];
    return (
      <div className="board rounded-box px-5 py-6 font-dense text-lg">
        <div className="flex items-center gap-3">
          <Signal state="ok" size={24} />
          {hosts
            ? whole
              ? `${plural(hosts, "host")} watched, nothing is wrong.`
              : "Nothing is wrong."
            : "No host is enrolled yet."}
        </div>
        <p className="mt-1 pl-9 text-base text-ink-2">
          {hosts === 0 ? (
            <Link className="link" to="/settings">
              Make an enrolment key and run its command on a server
            </Link>
          ) : last ? (
            <>
              The last incident ended {duration(now - unix(last.recovered_at ?? last.closed_at ?? last.opened_at))} ago:{" "}
              <Link className="link" to={`/incidents/${last.id}`}>
                {last.title}
              </Link>
            </>
          ) : (
            "Nothing has happened yet."
          )}
        </p>
      </div>
    );
  }
  return (
    <div className="board rounded-box px-4 pt-2 pb-3 font-dense">
      <div className={`${BOARD} pb-1 text-ink-2 text-sm`}>
        <span />
        <span>since</span>
        <span>where</span>
        <span>what</span>
        <span>clue</span>
        <span>who feels it</span>
        <span>who has it</span>
      </div>
      <div className="hairline border-current/20 border-t">
        {rows.map((row) => {
          const first = row.incident.alerts[0];
          return (
            <Link
              key={row.incident.id}
              to={withSpan(`/incidents/${row.incident.id}`, parameters)}
              className="block py-2.5 hover:bg-current/5"
            >
              <Narrow row={row} now={now} />
              <span className={BOARD}>
                <Signal state={row.silent ? "silent" : row.severity} size={20} label={row.severity} />
                <span className="text-lg">{clock(row.since)}</span>
                <span className="min-w-0">
                  <span className="line-clamp-2 text-lg leading-snug">{someOf(row.hosts) || "the fleet"}</span>
                  <span className="block text-ink-2 text-sm">
                    {first && Object.values(first.attributes).filter(Boolean).join(" ")}
                  </span>
                </span>
                <span className="min-w-0">
                  <span className="line-clamp-2 text-lg leading-snug">{first?.about ?? row.incident.title}</span>
                  <span className="block text-ink-2 text-sm">{beneath(row)}</span>
                </span>
                <span className="min-w-0">
                  <span className="line-clamp-2 text-base leading-snug">{row.clue ?? "nothing stands out yet"}</span>
                </span>
                <span className="min-w-0 text-base">{row.feels.join(", ") || "–"}</span>
                <span className="min-w-0 text-base">
                  {row.owner ?? "nobody"}
                  <span className="block text-ink-2 text-sm">for {duration(now - row.since)}</span>
                </span>
              </span>
            </Link>
          );
        })}
      </div>
    </div>
  );
}

/** A row on a telephone: how bad, since when, where and who has it; below it what, how much, and the clue. */
function Narrow({ row, now }: { row: Row; now: number }) {
  return (
    <span className="grid grid-cols-[28px_minmax(0,1fr)_auto] gap-x-2 md:hidden">
      <Signal state={row.silent ? "silent" : row.severity} size={20} label={row.severity} />
      <span className="grow-cell font-semibold text-lg leading-snug">{someOf(row.hosts) || "the fleet"}</span>
      <span className="text-right text-base">
        {clock(row.since)} <span className="text-ink-2 text-sm">for {duration(now - row.since)}</span>
      </span>
      <span />
      <span className="col-span-2 min-w-0 leading-snug">
        <span className="line-clamp-2 text-base">
          {row.incident.alerts[0]?.about ?? row.incident.title}
          <span className="text-ink-2 text-sm">{beneath(row) && ` · ${beneath(row)}`}</span>
        </span>
        <span className="line-clamp-2 text-sm">
          {row.clue ?? <span className="text-ink-2">no clue stands out yet</span>}
          <span className="text-ink-2"> · {row.owner ?? "nobody"} has it</span>
        </span>
      </span>
    </span>
  );
}

function GroupRow({ group, end, change }: { group: Group; end: number; change: Event | undefined }) {
  return (
    <Link
      to={pageOf({ kind: "group", name: group.name, node: nodeOf(["group", group.name]) })}
      className="touch grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-center gap-x-4 gap-y-1 py-1.5 hover:bg-base-200 md:grid-cols-[180px_minmax(0,1fr)_minmax(0,3fr)_minmax(0,1.6fr)]"
    >
      <span className="flex items-center gap-2">
        <Signal state={group.state} size={16} />
        <span className="grow-cell">
          <span className="font-semibold">{group.name}</span>{" "}
          <span className="text-ink-2 text-sm">{plural(group.hosts, "host")}</span>
        </span>
      </span>
      <Proportion states={group.states} total={group.hosts} />
      <span className="col-span-2 md:col-span-1">
        <Ribbon changes={group.ribbon} start={end - DAY} end={end} />
      </span>
      <span className="grow-cell hidden text-ink-2 text-sm md:block" title={change?.body}>
        {change ? `${moment(unix(change.time), end)} ${change.host}: ${change.body}` : "no changes"}
      </span>
    </Link>
  );
}

function Legend() {
  return (
    <div className="mt-4 flex flex-wrap gap-x-7 font-dense text-ink-2 text-sm">
      {(["ok", "warning", "critical", "silent", "paused"] as const).map((state) => (
        <span key={state} className="flex items-center gap-1.5">
          <Signal state={state} size={16} label={false} /> {state}
        </span>
      ))}
    </div>
  );
}
