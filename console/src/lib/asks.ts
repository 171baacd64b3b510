import { api, got, type Schemas } from "../api/client";
import { instant, type Span } from "./span";

/** Questions that more than one place asks, or that are begun before their page is there. */

export function askHosts(where: string, limit: number) {
  const query = { where: where || undefined, sort: "state", limit, brief: true } as const;
  return got(api.GET("/api/v1/hosts", { params: { query } }));
}

export function askHost(name: string) {
  return got(api.GET("/api/v1/hosts/{name}", { params: { path: { name } } }));
}

export function askTable(body: Schemas["HostTableQuery"]) {
  return got(api.POST("/api/v1/hosts/table", { body }));
}

export interface AlertsAsked {
  where?: string;
  state?: string;
  start?: number;
  end?: number;
}

export function askAlerts({ where, state, start, end }: AlertsAsked) {
  const [from, to] = [start ? instant(start) : undefined, end ? instant(end + 60) : undefined];
  return got(api.GET("/api/v1/alerts", { params: { query: { where, state, from, to, limit: 500 } } }));
}

export function askIncidents(state: "open" | "closed", where: string) {
  const query = { state, where: where || undefined, limit: 200 };
  return got(api.GET("/api/v1/incidents", { params: { query } }));
}

export function askRulesOver(span: Span) {
  return got(api.GET("/api/v1/rules", { params: { query: { from: instant(span.start), to: instant(span.end) } } }));
}

/** Events that a list shows, and bars of how many there were, unless more are asked for. */
export const MOST_EVENTS = 200;
export const EVENT_BARS = 90;

/** Which events: what is left empty asks for all. */
export function asked(text: string, where: string, filter: string, span: Span) {
  return {
    text: text || null,
    where: where || null,
    filter: filter || null,
    from: instant(span.start),
    to: instant(span.end),
  };
}

/** A typed filter and a floor of severity, together. */
export function filterOfEvents(where: string, floor: string): string {
  return [where.trim() && `(${where})`, floor && `severity ge "${floor}"`].filter(Boolean).join(" and ");
}

export function askEvents(text: string, where: string, filter: string, span: Span, limit: number) {
  return got(api.POST("/api/v1/events/query", { body: { ...asked(text, where, filter, span), limit } }));
}

export function askHistogram(text: string, where: string, filter: string, span: Span, bars: number) {
  return got(api.POST("/api/v1/events/histogram", { body: { ...asked(text, where, filter, span), bars } }));
}

export function askAvailability(
  of: "host" | "service" | "probe" | "application",
  where: string,
  span: Span,
  limit: number,
) {
  const query = { of, where: where || undefined, from: instant(span.start), to: instant(span.end), limit };
  return got(api.GET("/api/v1/availability/list", { params: { query } }));
}
