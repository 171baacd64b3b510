import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, got, type Schemas } from "../api/client";
import { instant, type Span } from "../lib/span";

/** A dashboard by its name. */
export function useBoard(name: string) {
  return useQuery({
    queryKey: ["dashboards", name],
    queryFn: () => got(api.GET("/api/v1/dashboards/{name}", { params: { path: { name } } })),
    retry: false,
  });
}

/** What all panels of a dashboard show over a span, in one call; `said` is what is chosen at its top. */
export function useAnswers(board: Schemas["Dashboard"] | undefined, span: Span, said: Record<string, string[]>) {
  return useQuery({
    queryKey: ["dashboards", board?.name, "answers", board?.version, said, span.start, span.end],
    enabled: board !== undefined,
    queryFn: () =>
      got(
        api.POST("/api/v1/dashboards/{name}/answers", {
          params: { path: { name: board?.name ?? "" } },
          body: { from: instant(span.start), to: instant(span.end), points: 200, variables: said },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** What an address chooses at the top of a dashboard: `var.site=northquay`. */
export function chosenIn(
  parameters: URLSearchParams,
  board: Schemas["Dashboard"] | undefined,
): Record<string, string[]> {
  const chosen = (board?.variables ?? []).map(
    ({ name }) => [name, parameters.getAll(`var.${name}`).filter(Boolean)] as const,
  );
  return Object.fromEntries(chosen.filter(([, values]) => values.length));
}
