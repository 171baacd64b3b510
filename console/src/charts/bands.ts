import type { Schemas } from "../api/client";
import type { Usual } from "../lib/queries";
import { nameOf } from "./ChartLane";

const HALF_AN_HOUR = 1800;

/** What is usual of each series that is known long enough, by the name of the series. */
export function bandsOf(answer: Schemas["BaselineAnswer"] | null | undefined): Map<string, Usual> {
  const times = (answer?.times ?? []).map((t) => t + HALF_AN_HOUR);
  const known = (answer?.series ?? []).filter((band) => band.enough);
  return new Map(known.map((band) => [nameOf(band.attributes), { times, low: band.low, high: band.high }]));
}
