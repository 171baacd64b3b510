import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { type AlertDetail, api, type Event, got, type Schemas } from "../api/client";
import { Row, Sessions, Table } from "../host/Beneath";
import { quoted } from "../lib/filterText";
import { clock, duration, moment, unix, withUnit } from "../lib/format";
import { useEvents, useHistogram, useMetric, useUsual } from "../lib/queries";
import { measureText } from "../lib/ruleWords";
import type { Span } from "../lib/span";
import { WEIGHT_STATE, weight } from "../lib/states";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Lanes } from "../ui/Lanes";
import { MetricLane } from "../ui/MetricLane";
import { Failure, Waiting } from "../ui/Note";
import { Signal } from "../ui/Signal";
import { ChangeLane, EventLane } from "../ui/StateLane";
import { askOf, boundsOf } from "./measured";
import { Tune } from "./Tune";

export function Component() {
  const { id = "" } = useParams();
  const number = Number(id);
  const alert = useQuery({
    queryKey: ["alert", number],
    queryFn: () => got(api.GET("/api/v1/alerts/{number}", { params: { path: { number } } })),
    refetchInterval: 15_000,
    retry: false,
  });
  if (alert.isError) return <Failure error={alert.error} />;
  if (!alert.data) return <Waiting what="the alert" lines={8} />;
  return <AlertPage alert={alert.data} />;
}

/** Advice as paragraphs: a single line break in a file is only where the file was folded. */
export function paragraphs(text: string): string {
  return text.trim().replace(/([^\n])\n(?=[^\n\-*\s])/g, "$1 ");
}

interface Evidence {
  from?: number;
  to?: number;
  processes?: Schemas["ProcessUse"][];
  sessions?: Schemas["Session"][];
  lines?: (Pick<Schemas["Pattern"], "pattern" | "severity" | "source" | "count" | "example"> & {
    usual: number | null;
  })[];
  changes?: Event[];
}

/** The span around an alert: some time before it opened, and after it ended. */
export function around(opened: number, ended: number | undefined, now: number): Span {
  const end = ended ?? now;
  const lead = Math.max(1200, (end - opened) * 0.5);
  const start = opened - Math.min(lead, 6 * 3600);
  return { from: "", to: "", start: Math.floor(start), end: Math.min(now, end + (ended ? lead / 2 : 0)), live: false };
}

function AlertPage({ alert }: { alert: AlertDetail }) {
  const { now } = useSpan();
  const opened = unix(alert.opened_at);
  const span = around(opened, alert.recovered_at ? unix(alert.recovered_at) : undefined, now);
  const evidence = alert.evidence as Evidence;
  const measure = alert.measure as Schemas["Rule"]["measure"];
  const ask = askOf(alert);
  const answer = useMetric(ask, span);
  const usual = useUsual(ask, span, answer.data);
  const mine = `host eq ${quoted(alert.host)}`;
  const histogram = useHistogram("", mine, span);
  const changes = useEvents("", `${mine} and source eq "change"`, span, 50);
  const bounds = boundsOf(alert);
  const from = Math.floor(opened - 900);
  const until = Math.ceil(Math.min(now, opened + 300));
  const hostLink = `/fleet/${encodeURIComponent(alert.host)}?${new URLSearchParams({ from: String(Math.floor(span.start)), to: String(Math.ceil(span.end)), drawn: `${from}-${until}` })}`;
  return (
    <>
      <header className="mb-2">
        <h1 className="flex items-center gap-2 font-semibold text-xl">
          <Signal state={alert.silent ? "silent" : alert.state === "open" ? alert.severity : "ok"} size={22} />
          {alert.about}
        </h1>
        <p className="font-dense text-ink-2">
          <Link className="link font-semibold" to={hostLink}>
            {alert.host}
          </Link>
          {Object.values(alert.attributes)
            .filter(Boolean)
            .map((v) => ` · ${v}`)}
          {" · "}
          {alert.state === "open"
            ? `${alert.severity} since ${moment(unix(alert.changed_at), now)}, open for ${duration(now - opened)}`
            : `${alert.recovery}, lasted ${duration(unix(alert.recovered_at ?? alert.opened_at) - opened)}`}
          {alert.silent && " · its data has stopped; what is shown is the last that was heard"}
          {" · rule "}
          <Link className="link" to={`/rules/${encodeURIComponent(alert.rule)}`}>
            {alert.rule}
          </Link>
        </p>
        <Kind alert={alert} now={now} />
        {alert.clue && (
          <p className="mt-1 font-dense text-lg">
            <span className="text-ink-2">Clue: </span>
            {alert.clue}
          </p>
        )}
      </header>
      <Lanes
        start={span.start}
        end={span.end}
        drawn={{ start: opened, end: alert.recovered_at ? unix(alert.recovered_at) : span.end }}
        onDraw={() => undefined}
        onClear={() => undefined}
        label="The alert over time"
      >
        {measure.metric && (
          <MetricLane
            name="Measured"
            shows={measure.metric}
            answer={answer.data}
            bounds={bounds}
            usual={usual}
            height={150}
            of={`limit ${withUnit(alert.limit, alert.unit)}`}
            ticks
          />
        )}
        <EventLane answer={histogram.data} />
        <ChangeLane events={changes.data?.items ?? []} />
      </Lanes>
      <div className="mt-3 grid gap-8 md:grid-cols-[minmax(0,2fr)_minmax(0,1fr)]">
        <EvidencePart evidence={evidence} opened={opened} now={now} hostLink={hostLink} />
        <aside className="order-first space-y-5 md:order-none">
          <Own alert={alert} now={now} />
          <Tune alert={alert} />
          <section>
            <h2 className="mb-1 font-dense font-semibold text-ink-2 text-sm">What to do</h2>
            <p className="whitespace-pre-line leading-snug">
              {paragraphs(alert.advice) || "The rule gives no advice."}
            </p>
          </section>
          <Story alert={alert} now={now} />
        </aside>
      </div>
    </>
  );
}

/** What the kind of limit says of this alert: what is usual, when it runs out, how long it is missing. */
function Kind({ alert, now }: { alert: AlertDetail; now: number }) {
  const told = kindText(alert, now);
  if (!told && !alert.flapping) return null;
  return (
    <p className="mt-1 font-dense text-lg">
      {told}
      {alert.flapping &&
        " It flaps: it opened again and again, and stays open until it has been calm for half an hour."}
    </p>
  );
}

function kindText(alert: AlertDetail, now: number): string {
  const measure = alert.measure as Schemas["Rule"]["measure"];
  if (alert.baseline) {
    const { middle, spread } = alert.baseline;
    return `${withUnit(alert.value, alert.unit)}, where ${withUnit(middle, alert.unit)} is usual at this hour, ± ${withUnit(spread, alert.unit)}.`;
  }
  if (alert.reaches_at) {
    const from = alert.earliest ? `, at the earliest ${moment(alert.earliest, now)}` : "";
    const to = alert.latest ? `, at the latest ${moment(alert.latest, now)}` : "";
    return `Runs out ${moment(alert.reaches_at, now)}, in ${duration(alert.reaches_at - now)}${from}${to}.`;
  }
  if (alert.kind === "missing_for") return `Not heard for ${duration(alert.value)}.`;
  if (alert.kind === "first_seen") return "Seen for the first time.";
  if (!measure.metric) return `${measureText(measure)}: ${withUnit(alert.value, alert.unit)}.`;
  return "";
}

function EvidencePart({
  evidence,
  opened,
  now,
  hostLink,
}: {
  evidence: Evidence;
  opened: number;
  now: number;
  hostLink: string;
}) {
  const blocked = evidence.sessions?.some((s) => s.depth > 0);
  return (
    <section aria-label="Evidence" className="font-dense">
      <h2 className="mb-1 font-semibold text-primary">
        Evidence captured at {moment(opened, now, true)}{" "}
        <Link className="link ml-2 font-normal text-sm" to={hostLink}>
          Open the span on the host
        </Link>
      </h2>
      <div className="space-y-4">
        {blocked && <Sessions sessions={evidence.sessions ?? []} />}
        {evidence.changes && evidence.changes.length > 0 && (
          <Table title="Changed shortly before" columns={["at"]}>
            {evidence.changes.map((e) => (
              <Row key={e.id} cells={[clock(unix(e.time), true)]} title={e.body}>
                {e.body}
              </Row>
            ))}
          </Table>
        )}
        <Table title="What the log said" columns={["times", "usual"]} empty="nothing in the minutes before">
          {evidence.lines?.map((p) => {
            const kind = weight(p.severity);
            return (
              <Row
                key={`${p.pattern}${p.severity}`}
                cells={[String(p.count), p.usual === null ? "" : String(p.usual)]}
                title={p.example}
              >
                {kind !== "rest" && <Signal state={WEIGHT_STATE[kind]} size={15} label={p.severity} />} {p.pattern}
              </Row>
            );
          })}
        </Table>
        <Table title="Busiest processes" columns={["CPU", "memory"]} empty="none was kept at that moment">
          {evidence.processes?.map((p) => (
            <Row
              key={`${p.name}${p.user}`}
              cells={[`${(p.cpu * 100).toFixed(0)} %`, withUnit(p.memory, "By")]}
              title={p.user}
            >
              {p.name} <span className="text-ink-2">{p.user}</span>
            </Row>
          ))}
        </Table>
      </div>
    </section>
  );
}

function Own({ alert, now }: { alert: AlertDetail; now: number }) {
  const may = useMay("operator");
  const client = useQueryClient();
  const [note, setNote] = useState("");
  const [error, setError] = useState<unknown>();
  if (alert.acknowledged_by) {
    return (
      <p>
        <span className="font-semibold">{alert.acknowledged_by}</span> has it, since{" "}
        {moment(unix(alert.acknowledged_at ?? alert.opened_at), now)}
        {alert.acknowledged_note && <span className="block text-ink-2">{alert.acknowledged_note}</span>}
      </p>
    );
  }
  if (alert.state !== "open" || !may) return null;
  const send = () => {
    got(api.POST("/api/v1/alerts/{number}/acknowledge", { params: { path: { number: alert.id } }, body: { note } }))
      .then(() => client.invalidateQueries({ queryKey: ["alert"] }))
      .then(() => client.invalidateQueries({ queryKey: ["alerts"] }))
      .catch(setError);
  };
  return (
    <section>
      <label className="flex flex-col gap-1">
        <span className="font-dense font-semibold text-ink-2 text-sm">Nobody has it yet</span>
        <input
          className="input input-sm w-full"
          placeholder="a note for the others"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
      <button type="button" className="btn btn-primary btn-sm mt-2" onClick={send}>
        Acknowledge: I have it
      </button>
      {error !== undefined && <Failure error={error} />}
    </section>
  );
}

function Story({ alert, now }: { alert: AlertDetail; now: number }) {
  return (
    <section className="font-dense">
      <h2 className="mb-1 font-semibold text-ink-2 text-sm">What happened</h2>
      <ol className="space-y-0.5 text-sm">
        {alert.story.map((step) => {
          const s = step as { at: string; what: string; severity: string; who: string; note: string };
          return (
            <li key={`${s.at}${s.what}`}>
              <span className="text-ink-2">{moment(unix(s.at), now, true)}</span> {s.what}
              {["opened", "worsened", "eased"].includes(s.what) ? `, ${s.severity}` : ""} {s.who} {s.note}
            </li>
          );
        })}
      </ol>
      <h2 className="mt-3 mb-1 font-semibold text-ink-2 text-sm">Who was told</h2>
      {alert.incident && (
        <p className="text-sm">
          of{" "}
          <Link className="link" to={`/incidents/${alert.incident}`}>
            incident {alert.incident}
          </Link>
          , which it is a part of
        </p>
      )}
      {alert.told.length === 0 && <p className="text-ink-2 text-sm">Nobody yet.</p>}
      <ul className="text-sm">
        {alert.told.map((step) => {
          const t = step as {
            at: string;
            channel: string;
            person: string | null;
            kind: string;
            state: string;
            problem: string | null;
          };
          return (
            <li key={`${t.at}${t.channel}${t.kind}`}>
              <span className="text-ink-2">{moment(unix(t.at), now, true)}</span>{" "}
              {t.person ? `${t.person} by ${t.channel}` : t.channel}: {t.kind}, {t.state}
              {t.problem && <span className="text-state-warning"> ({t.problem})</span>}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
