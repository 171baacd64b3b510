import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { State } from "../api/client";
import { api, got, type Schemas } from "../api/client";
import { csv, download } from "../lib/csv";
import { quoted } from "../lib/filterText";
import { moment, plural, unix } from "../lib/format";
import { instant } from "../lib/span";
import { useSpan } from "../lib/useSpan";
import { FilterField } from "../ui/FilterField";
import { LaneRow, Lanes, useAxis } from "../ui/Lanes";
import { Empty, Failure, Waiting } from "../ui/Note";
import { SavedFilters } from "../ui/SavedFilters";
import { Signal } from "../ui/Signal";
import { EventsNav } from "./Nav";
import { useAsked } from "./useAsked";

type Item = Schemas["SignInItem"];
type By = "address" | "account" | "pair";
const BYS: { value: By; name: string }[] = [
  { value: "address", name: "by address" },
  { value: "account", name: "by account" },
  { value: "pair", name: "by account and address" },
];
const KINDS: Record<Item["kind"], { name: string; state?: State }> = {
  "success-after-failures": { name: "got in after many failures", state: "critical" },
  sweep: { name: "tries many accounts", state: "warning" },
  "first-seen": { name: "first time together", state: "warning" },
  failing: { name: "fails" },
  usual: { name: "as before" },
};
const WHAT: Record<Schemas["AccountChange"]["what"], string> = {
  locked: "locked",
  unlocked: "unlocked",
  "new-account": "made",
  "account-removed": "removed",
  "group-change": "put",
};

const SPANS = [
  { from: "-7d", name: "the week" },
  { from: "-30d", name: "30 days" },
];

/** What stands in the table, as rows of a file. */
function rowsOf(items: Item[]) {
  const names = [
    "kind",
    "account",
    "address",
    "host",
    "hosts",
    "accounts",
    "failed",
    "succeeded",
    "first",
    "last",
  ] as const;
  return [names, ...items.map((item) => names.map((name) => item[name]))];
}

/** Who tried to get in, and who did. */
export function Component() {
  const { span, now, brush, setSpan } = useSpan();
  const asked = useAsked();
  const [parameters] = useSearchParams();
  const by = (BYS.find((one) => one.value === parameters.get("by"))?.value ?? "address") as By;
  const sweep = Math.max(2, Number(parameters.get("sweep")) || 5);
  const { where, saved } = asked;
  const answer = useQuery({
    queryKey: ["sign-ins", span.start, span.end, by, sweep, where, saved],
    queryFn: () =>
      got(
        api.GET("/api/v1/sign-ins", {
          params: {
            query: {
              from: instant(span.start),
              to: instant(span.end),
              by,
              sweep,
              where: where || undefined,
              filter: saved || undefined,
              limit: 300,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const found = answer.data;
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">Sign-ins</h1>
      <EventsNav />
      <div className="mb-1 flex flex-wrap items-start gap-x-3 gap-y-2">
        <div className="join" role="group" aria-label="Counted by">
          {BYS.map((one) => (
            <button
              key={one.value}
              type="button"
              className={`btn join-item btn-sm ${by === one.value ? "btn-primary" : ""}`}
              aria-pressed={by === one.value}
              onClick={() => asked.keep({ by: one.value === "address" ? "" : one.value })}
            >
              {one.name}
            </button>
          ))}
        </div>
        <FilterField
          where={where}
          keep={asked.keepWhere}
          placeholder='filter, like: account eq "root" or host sw "gate-"'
          found={found && plural(found.total, "row")}
        />
        <SavedFilters where={where} chosen={saved} choose={(name) => asked.keep({ filter: name })} />
        <div className="join" role="group" aria-label="Span">
          {SPANS.map(({ from, name }) => (
            <button
              key={from}
              type="button"
              className={`btn join-item btn-sm ${span.from === from ? "btn-primary" : ""}`}
              aria-pressed={span.from === from}
              onClick={() => setSpan({ from, to: "now" })}
            >
              {name}
            </button>
          ))}
        </div>
        {found && found.items.length > 0 && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => download("sign-ins.csv", "text/csv", [csv(rowsOf(found.items))])}
          >
            Export
          </button>
        )}
        {by === "address" && (
          <label className="flex items-center gap-2 text-sm">
            sweeps from
            <input
              type="number"
              min={2}
              max={10000}
              className="input input-sm w-20"
              value={sweep}
              onChange={(e) => asked.keep({ sweep: e.target.value === "5" ? "" : e.target.value })}
            />
            accounts on
          </label>
        )}
      </div>
      {answer.isError && <Failure error={answer.error} />}
      {!found && !answer.isError && <Waiting what="the sign-ins" lines={8} />}
      {found && (
        <>
          <Lanes
            start={span.start}
            end={span.end}
            onDraw={brush}
            onClear={() => undefined}
            label="Sign-ins over time; drag to look closer"
          >
            <TrendLane name="Failed" trend={found.trend} of="failed" />
            <TrendLane name="Succeeded" trend={found.trend} of="succeeded" />
          </Lanes>
          {!found.complete && (
            <p className="mt-2 text-state-warning">There were too many to count all of them: choose a shorter span.</p>
          )}
          {found.items.length === 0 && (
            <Empty title="Nobody signed in or tried to in this span">
              What OpenSSH, PAM, sudo, su, web forms and Windows-like hosts say of sign-ins is read from their events:
              see under Sources whether these come.
            </Empty>
          )}
          {found.items.length > 0 && <Items items={found.items} by={by} now={now} />}
          {found.changes.length > 0 && <Changes changes={found.changes} now={now} />}
        </>
      )}
    </>
  );
}

function TrendLane({ name, trend, of }: { name: string; trend: Schemas["SignInTrend"]; of: "failed" | "succeeded" }) {
  const axis = useAxis();
  const height = 32;
  const values = trend[of];
  const most = Math.max(1, ...values);
  const at = axis.cursor;
  const index = at === undefined ? -1 : Math.floor((at - (trend.times[0] ?? 0)) / trend.step_seconds);
  const total = values.reduce((sum, n) => sum + n, 0);
  return (
    <LaneRow
      name={name}
      shows={trend.step_seconds < 86_400 ? "by the hour" : "by the day"}
      value={String(values[index] ?? total)}
      unit={values[index] === undefined ? "in the span" : "at the cursor"}
      height={height}
    >
      <svg width={axis.width} height={height} className="block" role="img" aria-label={`${name}: ${total} in the span`}>
        <title>{name}</title>
        {values.map((n, i) => {
          const start = trend.times[i] ?? 0;
          const x = axis.x(start);
          const tall = n ? Math.max(1.5, (n / most) * (height - 4)) : 0;
          return (
            <rect
              key={start}
              x={x}
              y={height - tall}
              width={Math.max(1, axis.x(start + trend.step_seconds) - x - 1)}
              height={tall}
              fill={of === "failed" ? "var(--state-warning)" : "var(--color-base-300)"}
            />
          );
        })}
      </svg>
    </LaneRow>
  );
}

function Items({ items, by, now }: { items: Item[]; by: By; now: number }) {
  const [parameters] = useSearchParams();
  const lines = (item: Item) => {
    const next = new URLSearchParams(parameters);
    for (const name of ["by", "sweep", "where"]) next.delete(name);
    next.set("text", by === "account" || !item.address ? quoted(item.account) : quoted(item.address));
    return `/events?${next}`;
  };
  return (
    <div className="relative overflow-x-auto">
      <table className="mt-3 w-full border-collapse font-dense text-sm">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2">
            {["", by === "address" ? "address" : "account", "failed", "succeeded"].map((name) => (
              <th
                key={name}
                scope="col"
                className={`py-1 pr-4 font-normal ${name === "failed" || name === "succeeded" ? "text-right" : ""}`}
              >
                {name || <span className="sr-only">What should be looked at</span>}
              </th>
            ))}
            <th scope="col" className="py-1 pr-4 font-normal">
              {by === "address" ? "accounts" : "address"}
            </th>
            <th scope="col" className="py-1 pr-4 font-normal">
              host
            </th>
            <th scope="col" className="py-1 pr-4 font-normal">
              first
            </th>
            <th scope="col" className="py-1 font-normal">
              last
            </th>
          </tr>
        </thead>
        <tbody>
          {items.map((item) => {
            const kind = KINDS[item.kind];
            const name = by === "address" ? item.address || "on the host itself" : item.account || "(no name)";
            return (
              <tr key={`${item.account} ${item.address}`} className="border-base-300 border-b align-top">
                <td className="whitespace-nowrap py-1 pr-4">
                  {kind.state && <Signal state={kind.state} size={15} label={kind.name} />}{" "}
                  <span className={kind.state ? "font-semibold" : "text-ink-2"}>{kind.name}</span>
                </td>
                <td className="break-all py-1 pr-4">
                  <Link className="hover:underline" to={lines(item)} title="the lines that say it">
                    {name}
                  </Link>
                </td>
                <td className="py-1 pr-4 text-right tabular-nums">{String(item.failed)}</td>
                <td className="py-1 pr-4 text-right tabular-nums">{String(item.succeeded)}</td>
                <td className="break-all py-1 pr-4">
                  {by === "address"
                    ? item.accounts === 1
                      ? item.account
                      : `${String(item.accounts)}, most of all ${item.account || "(no name)"}`
                    : item.address || "on the host itself"}
                </td>
                <td className="py-1 pr-4">
                  {item.host}
                  {item.hosts > 1 ? ` and ${item.hosts - 1} more` : ""}
                </td>
                <td className="whitespace-nowrap py-1 pr-4 text-ink-2">{moment(unix(item.first), now)}</td>
                <td className="whitespace-nowrap py-1 text-ink-2">{moment(unix(item.last), now)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

function Changes({ changes, now }: { changes: Schemas["AccountChange"][]; now: number }) {
  return (
    <section aria-label="Accounts that changed" className="mt-5">
      <h2 className="mb-1 font-semibold">Accounts that changed</h2>
      <ul className="hairline border-base-300 border-b font-dense text-sm">
        {changes.slice(0, 50).map((one) => (
          <li key={one.event} className="flex flex-wrap gap-x-4 py-0.5">
            <span className="text-ink-2">{moment(unix(one.time), now)}</span>
            <span className="font-semibold">{one.host}</span>
            <Link className="hover:underline" to={`/events/one/${one.event}`}>
              {one.account} {WHAT[one.what]} {one.detail}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}
