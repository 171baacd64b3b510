import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { FleetTabs } from "../fleet/Tabs";
import { askAvailability } from "../lib/asks";
import { duration, plural, share } from "../lib/format";
import type { Span } from "../lib/span";
import { useAddress } from "../lib/useAddress";
import { useSpan } from "../lib/useSpan";
import { useWhere } from "../lib/useWhere";
import { FilterField } from "../ui/FilterField";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Ribbon } from "../ui/Ribbon";
import { One } from "./One";
import { FIRST, MOST, NAMES, OF, type Of, stretches } from "./presence";

const LONG = ["-24h", "-7d", "-30d", "-90d"];

/** Whether hosts, services, probes and applications were there over the span, those that were down longest first. */
export function Component() {
  const [parameters, change] = useAddress();
  const { span, setSpan } = useSpan();
  const [where, keepWhere] = useWhere();
  const of = OF.find((one) => one === parameters.get("of")) ?? "host";
  const name = parameters.get("name") ?? "";
  const choose = (next: Record<string, string>) => change(next, true);
  return (
    <>
      <FleetTabs />
      <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="font-semibold text-xl">
          Availability of{" "}
          <select
            aria-label="Availability of"
            className="grows cursor-pointer border-primary/70 border-b-2 bg-transparent text-primary"
            value={of}
            onChange={(e) => choose({ of: e.target.value, name: "", where: "" })}
          >
            {OF.map((one) => (
              <option key={one} value={one}>
                {one}s
              </option>
            ))}
          </select>
        </h1>
        <span className="flex gap-1 font-dense">
          {LONG.map((from) => (
            <button
              key={from}
              type="button"
              className={`btn btn-xs font-normal ${span.from === from && span.live ? "btn-active" : ""}`}
              aria-pressed={span.from === from && span.live}
              onClick={() => setSpan({ from, to: "now" })}
            >
              {from
                .replace("-", "")
                .replace(/(\d+)h/, "$1 hours")
                .replace(/(\d+)d/, "$1 days")}
            </button>
          ))}
        </span>
        {of === "host" && !name && (
          <FilterField where={where} keep={keepWhere} placeholder="filter of hosts" attributes={["group", "site"]} />
        )}
      </div>
      {name ? (
        <One of={of} name={name} span={span} back={() => choose({ name: "" })} />
      ) : (
        <All of={of} where={where} span={span} choose={(chosen) => choose({ name: chosen })} />
      )}
    </>
  );
}

function All({ of, where, span, choose }: { of: Of; where: string; span: Span; choose: (name: string) => void }) {
  const [limit, setLimit] = useState(FIRST);
  const list = useQuery({
    queryKey: ["availability", of, where, span.start, span.end, limit],
    queryFn: () => askAvailability(of, where, span, limit),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (list.isError) return <Failure error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Waiting what={`the availability of ${of}s`} lines={8} />;
  if (!list.data.items.length) return <Empty title={`There are no ${of}s here.`} />;
  return <List {...list.data} of={of} span={span} choose={choose} more={() => setLimit(MOST)} />;
}

type Worst = Schemas["AvailabilityOfOne"] | undefined;

interface Shown {
  of: Of;
  span: Span;
  choose: (name: string) => void;
  more: () => void;
}

/** Of many the worst are shown, and `more` when they are asked for. */
export function List({ items, left_out, down, of, span, choose, more }: Schemas["AvailabilityList"] & Shown) {
  const others = Math.min(left_out, MOST - items.length);
  return (
    <>
      <Summary worst={items[0]} down={down} all={items.length + left_out} of={of} />
      <table className="w-full border-collapse font-dense">
        <thead>
          <tr className="border-base-300 border-b text-left text-ink-2 text-sm">
            <th scope="col" className="py-1 font-normal">
              {of}
            </th>
            <th scope="col" className="w-1/3 font-normal max-md:hidden">
              up, down, maintenance
            </th>
            <th scope="col" className="pl-3 text-right font-normal">
              up
            </th>
            <th scope="col" className="pl-3 text-right font-normal">
              down
            </th>
            <th scope="col" className="pl-3 text-right font-normal max-md:hidden">
              outages
            </th>
            <th scope="col" className="pl-3 text-right font-normal max-md:hidden">
              not known
            </th>
            <th scope="col" className="pl-3 text-right font-normal max-md:hidden">
              target
            </th>
          </tr>
        </thead>
        <tbody>
          {items.map((one) => (
            <tr key={one.name} className="border-base-300 border-b align-middle hover:bg-base-200">
              <th scope="row" className="py-1 pr-3 text-left font-normal">
                <button
                  type="button"
                  className="touch cursor-pointer text-left font-semibold hover:underline"
                  onClick={() => choose(one.name)}
                >
                  {one.name}
                </button>
              </th>
              <td className="max-md:hidden">
                <Ribbon changes={stretches(one.ribbon)} start={span.start} end={span.end} names={NAMES} />
              </td>
              <td className="whitespace-nowrap pl-3 text-right font-semibold">{upOf(one)}</td>
              <td
                className={`whitespace-nowrap pl-3 text-right ${one.down_seconds ? "font-semibold text-state-critical" : "text-ink-2"}`}
              >
                {one.down_seconds ? duration(one.down_seconds) : "–"}
              </td>
              <td className="pl-3 text-right max-md:hidden">{one.outage_count || ""}</td>
              <td className="whitespace-nowrap pl-3 text-right text-ink-2 max-md:hidden">
                {one.unknown > 0 ? share(one.unknown) : ""}
              </td>
              <td className="whitespace-nowrap pl-3 text-right text-ink-2 max-md:hidden">
                {one.target ? `${share(one.target.share)} a ${one.target.per}` : ""}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {others > 0 && (
        <button type="button" className="btn btn-sm mt-2" onClick={more}>
          Show {others.toLocaleString("en")} more
        </button>
      )}
      {left_out > others && (
        <p className="mt-2 text-ink-2">
          {(left_out - others).toLocaleString("en")} more are not listed: filter for them
        </p>
      )}
    </>
  );
}

/** The share of what is known in which it was up. */
export function upOf(one: Pick<Schemas["AvailabilityOfOne"], "up" | "down">): string {
  const known = one.up + one.down;
  return known > 0 ? share(one.up / known) : "not known";
}

function Summary({ worst, down, all, of }: { worst: Worst; down: number; all: number; of: Of }) {
  const every = plural(all, of);
  return (
    <p className="mb-2 text-lg">
      {worst && down > 0
        ? `${down.toLocaleString("en")} of ${every} ${down === 1 ? "was" : "were"} down for a while, ${worst.name} longest: ${duration(worst.down_seconds)}.`
        : `None of ${every} was down as far as is known.`}
    </p>
  );
}
