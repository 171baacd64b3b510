import { FIRST, OF } from "../availability/presence";
import { columnsOf, orderIn, shownIn, tableBody } from "../fleet/columns";
import {
  askAlerts,
  askAvailability,
  askEvents,
  askHistogram,
  askHost,
  askHosts,
  askIncidents,
  askRulesOver,
  askTable,
  EVENT_BARS,
  filterOfEvents,
  MOST_EVENTS,
} from "./asks";
import { FIRST_ROWS, pacedNow, readSpan } from "./span";

/** What the page at an address shows first. */
export function askFirst(path: string, parameters: URLSearchParams): Promise<unknown>[] {
  const where = parameters.get("where") ?? "";
  const span = readSpan(parameters, pacedNow());
  switch (path) {
    case "/":
      return [askIncidents("open", ""), askAlerts({ state: "open" })];
    case "/fleet":
      return [askHosts(where, FIRST_ROWS), askTable(tableAsked(where, parameters))];
    case "/incidents":
      return [askIncidents("open", where), askIncidents("closed", where)];
    case "/alerts":
      return [askAlerts({ ...(where && { where }), start: span.start, end: span.end })];
    case "/events": {
      const filter = filterOfEvents(where, parameters.get("floor") ?? "");
      const which = [parameters.get("text") ?? "", filter, parameters.get("filter") ?? "", span] as const;
      return [askEvents(...which, MOST_EVENTS), askHistogram(...which, EVENT_BARS)];
    }
    case "/rules":
      return [askRulesOver(span)];
    case "/availability": {
      const of = OF.find((one) => one === parameters.get("of")) ?? "host";
      return parameters.get("name") ? [] : [askAvailability(of, where, span, FIRST)];
    }
  }
  const host = /^\/fleet\/([^/]+)$/.exec(path)?.[1];
  return host ? [askHost(decodeURIComponent(host))] : [];
}

function tableAsked(where: string, parameters: URLSearchParams) {
  const asked = {
    where,
    columns: columnsOf(shownIn(parameters)),
    order: orderIn(parameters),
    groupBy: parameters.get("group") ?? "",
    lines: parameters.get("lines") === "1",
  };
  return { ...tableBody(asked), limit: FIRST_ROWS };
}
