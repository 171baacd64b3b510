import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, got, type MetricAnswer, type MetricQuery, type Schemas } from "../api/client";
import {
  type AlertsAsked,
  askAlerts,
  askEvents,
  askHistogram,
  askHost,
  askHosts,
  askIncidents,
  askRulesOver,
  EVENT_BARS,
  MOST_EVENTS,
} from "./asks";
import { instant, type Span } from "./span";
import { useStaged } from "./useStaged";

/** What is asked of the service, with the keys under which answers are held. */

/** The hosts, the worst first. */
export function useHosts(where?: string) {
  return useStaged(["hosts", where ?? ""], (limit) => askHosts(where ?? "", limit), 20_000);
}

export function useHost(name: string) {
  return useQuery({
    queryKey: ["hosts", "one", name],
    queryFn: () => askHost(name),
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

export function useAlerts(options: AlertsAsked) {
  return useQuery({
    queryKey: ["alerts", options],
    queryFn: () => askAlerts(options),
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
  });
}

export function useIncidents(state: "open" | "closed", where = "") {
  return useQuery({
    queryKey: ["incidents", state, where],
    queryFn: () => askIncidents(state, where),
    placeholderData: keepPreviousData,
    refetchInterval: 20_000,
  });
}

export function usePeople() {
  return useQuery({ queryKey: ["people"], queryFn: () => got(api.GET("/api/v1/people")), staleTime: 60_000 });
}

export type Ask = Omit<Partial<MetricQuery>, "from" | "to" | "points" | "take" | "by" | "metric"> & {
  metric: string;
  take: MetricQuery["take"];
  by: string[];
  points?: number;
};

export function useMetric(ask: Ask | undefined, span: Span) {
  return useQuery({
    queryKey: ["metric", ask, span.start, span.end],
    enabled: ask !== undefined,
    queryFn: () =>
      measured([{ points: 240, ...(ask as Ask), from: instant(span.start), to: instant(span.end) }]).then(
        ([answer]) => answer as MetricAnswer,
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

type Body = MetricQuery | Schemas["MetricQueries"];

/** The answers to some questions, in one call; one alone is refused by itself. */
export async function measured(queries: Partial<MetricQuery>[]): Promise<MetricAnswer[]> {
  const body = (queries.length === 1 ? queries[0] : { queries }) as Body;
  const answer = await got(api.POST("/api/v1/metrics/query", { body }));
  return "answers" in answer ? answer.answers : [answer];
}

/** Where values usually are: at each moment, unix seconds, from `low` to `high`. */
export interface Usual {
  times: number[];
  low: (number | null)[];
  high: (number | null)[];
}

const HOUR = 3600;
/** How points are put together in what is kept for long. */
export const KEPT_TAKES = ["avg", "min", "max", "sum", "count", "last", "rate"] as const;
type KeptTake = (typeof KEPT_TAKES)[number];

/** What is usual of the first line of a chart, if a rule about the unusual watches its metric; as wide as its limits. */
export function useUsual(ask: Ask | undefined, span: Span, shown: MetricAnswer | undefined): Usual | undefined {
  const rules = useRules();
  const watching = rules.data?.items.filter((rule) => rule.enabled && rule.measure.metric === ask?.metric) ?? [];
  const limits = watching.flatMap(({ limits }) => [limits.warning ?? limits.critical]);
  const limit = limits.find((one) => one?.unusual);
  const take = KEPT_TAKES.find((one) => one === ask?.take);
  const answer = useQuery({
    queryKey: ["usual", ask, Math.floor(span.start / HOUR), Math.ceil(span.end / HOUR), limit?.unusual],
    enabled: limit !== undefined && take !== undefined,
    queryFn: () =>
      got(
        api.POST("/api/v1/metrics/baseline", {
          body: {
            metric: ask?.metric ?? "",
            where: ask?.where ?? null,
            by: ask?.by.length ? ask.by : ["host"],
            take: take as KeptTake,
            from: instant(span.start - HOUR),
            to: instant(span.end + HOUR),
            deviations: limit?.unusual ?? 3,
          },
        }),
      ),
    staleTime: 600_000,
    retry: false,
  });
  const mine = JSON.stringify(shown?.series[0]?.attributes);
  const bands = answer.data?.series.filter((band) => band.enough) ?? [];
  // What is shown all together is that of one host.
  const one = ask?.by.length ? bands.find((band) => JSON.stringify(band.attributes) === mine) : bands[0];
  // What is known of an hour is that of its middle.
  return one && { times: (answer.data?.times ?? []).map((t) => t + HOUR / 2), low: one.low, high: one.high };
}

export function useEvents(text: string, where: string, span: Span, limit = MOST_EVENTS, filter = "") {
  return useQuery({
    queryKey: ["events", text, where, span.start, span.end, limit, filter],
    queryFn: () => askEvents(text, where, filter, span, limit),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useHistogram(text: string, where: string, span: Span, bars = EVENT_BARS, filter = "") {
  return useQuery({
    queryKey: ["histogram", text, where, span.start, span.end, bars, filter],
    queryFn: () => askHistogram(text, where, filter, span, bars),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** All rules, with what each did in a span. */
export function useRulesOver(span: Span) {
  return useQuery({
    queryKey: ["rules", "over", span.start, span.end],
    queryFn: () => askRulesOver(span),
    placeholderData: keepPreviousData,
  });
}

export function useRules() {
  return useQuery({ queryKey: ["rules"], queryFn: () => got(api.GET("/api/v1/rules")) });
}
