import { api, got } from "../api/client";

/** How the trail of an incident is asked for, the same wherever it is shown. */
export function trailQuery(number: number) {
  return {
    queryKey: ["incident", number, "trail"],
    queryFn: () => got(api.GET("/api/v1/incidents/{number}/trail", { params: { path: { number } } })),
    retry: false,
  };
}
