import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, got, type MetricQuery } from "../api/client";
import { instant, type Span } from "./span";

/** What is asked of the service, with the keys under which answers are held. */

export function useHosts(where?: string) {
  return useQuery({
    queryKey: ["hosts", where ?? ""],
    queryFn: () => got(api.GET("/api/v1/hosts", { params: { query: { where, sort: "state", limit: 10000 } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 20_000,
    retry: false,
  });
}

export function useHost(name: string) {
  return useQuery({
    queryKey: ["hosts", "one", name],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}", { params: { path: { name } } })),
    refetchInterval: 20_000,
    retry: false,
  });
}

export function useGroups(start: number, end: number) {
  return useQuery({
    queryKey: ["groups", start, end],
    queryFn: () => got(api.GET("/api/v1/groups", { params: { query: { from: instant(start), to: instant(end) } } })),
    placeholderData: keepPreviousData,
  });
}

export function useAlerts(options: { where?: string; state?: string; start?: number; end?: number }) {
  return useQuery({
    queryKey: ["alerts", options],
    queryFn: () =>
      got(
        api.GET("/api/v1/alerts", {
          params: {
            query: {
              where: options.where,
              state: options.state,
              from: options.start ? instant(options.start) : undefined,
              to: options.end ? instant(options.end + 60) : undefined,
              limit: 500,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
}

export type Ask = Omit<MetricQuery, "from" | "to" | "points" | "take" | "by"> & {
  take: MetricQuery["take"];
  by: string[];
  points?: number;
};

export function useMetric(ask: Ask | undefined, span: Span) {
  return useQuery({
    queryKey: ["metric", ask, span.start, span.end],
    enabled: ask !== undefined,
    queryFn: () =>
      got(
        api.POST("/api/v1/metrics/query", {
          body: { points: 240, ...(ask as Ask), from: instant(span.start), to: instant(span.end) },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** Which events: what is left empty asks for all. */
function asked(text: string, where: string, filter: string, span: Span) {
  return {
    text: text || null,
    where: where || null,
    filter: filter || null,
    from: instant(span.start),
    to: instant(span.end),
  };
}

export function useEvents(text: string, where: string, span: Span, limit = 200, filter = "") {
  return useQuery({
    queryKey: ["events", text, where, span.start, span.end, limit, filter],
    queryFn: () =>
      got(
        api.POST("/api/v1/events/query", {
          body: { ...asked(text, where, filter, span), limit },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useHistogram(text: string, where: string, span: Span, bars = 90, filter = "") {
  return useQuery({
    queryKey: ["histogram", text, where, span.start, span.end, bars, filter],
    queryFn: () =>
      got(
        api.POST("/api/v1/events/histogram", {
          body: { ...asked(text, where, filter, span), bars },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useRules() {
  return useQuery({ queryKey: ["rules"], queryFn: () => got(api.GET("/api/v1/rules")) });
}
