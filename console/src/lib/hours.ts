import type { Schemas } from "../api/client";

export const DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;
export type Hours = Schemas["Hours"];

/** `18:00 to 08:00, mon to fri, Europe/Oslo`. */
export function hoursText(hours: Pick<Hours, "from" | "to" | "zone"> & { days: string[] }): string {
  const places = hours.days.map((d) => DAYS.indexOf(d as (typeof DAYS)[number])).sort((a, b) => a - b);
  const joined = places.length > 2 && places.every((p, i) => i === 0 || p === (places[i - 1] ?? -9) + 1);
  const days =
    places.length === 7
      ? "every day"
      : joined
        ? `${DAYS[places[0] ?? 0]} to ${DAYS[places[places.length - 1] ?? 0]}`
        : places.map((p) => DAYS[p]).join(" ");
  return `${hours.from} to ${hours.to}, ${days}, ${hours.zone}`;
}

/** Where the browser is, as an IANA time zone. */
export const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";
