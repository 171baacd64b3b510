import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, got } from "../api/client";

const SETTLED_MS = 400;

/** What a filter that is being typed means, once nobody has typed for a moment. */
export function useExplained(value: string) {
  const [asked, setAsked] = useState(value.trim());
  useEffect(() => {
    const timer = setTimeout(() => setAsked(value.trim()), SETTLED_MS);
    return () => clearTimeout(timer);
  }, [value]);
  const answer = useQuery({
    queryKey: ["explained", asked],
    queryFn: () => got(api.POST("/api/v1/filters/explain", { body: { where: asked } })),
    enabled: asked !== "",
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  }).data;
  const told = answer?.where === asked ? answer : undefined;
  /** Whether what was asked is what stands there, and can be read. */
  const settled = asked === value.trim() && (asked === "" || (told !== undefined && !told.problem));
  return { asked, told: asked ? told : undefined, settled };
}
