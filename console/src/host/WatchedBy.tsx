import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { plural, withUnit } from "../lib/format";
import { limitWords } from "../lib/ruleWords";
import { Signal } from "../ui/Signal";

const FIRST = 6;

/** Which rules watch a host, where their limits come from, and how far each is from breach; the nearest first. */
export function WatchedBy({ host }: { host: string }) {
  const [all, setAll] = useState(false);
  const rules = useQuery({
    queryKey: ["hosts", host, "rules"],
    queryFn: () => got(api.GET("/api/v1/hosts/{name}/rules", { params: { path: { name: host } } })),
    refetchInterval: 30_000,
    retry: false,
  });
  const items = rules.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <section aria-label="Rules that watch it" className="mt-4 font-dense">
      <h2 className="mb-1 font-semibold">
        Watched by {plural(items.length, "limit")}
        <span className="ml-2 font-normal text-ink-2 text-sm">the nearest to breach first</span>
      </h2>
      <ul className="hairline text-sm">
        {(all ? items : items.slice(0, FIRST)).map((one) => (
          <Limit key={`${one.rule}${JSON.stringify(one.attributes)}`} one={one} />
        ))}
      </ul>
      {items.length > FIRST && (
        <button
          type="button"
          className="touch mt-1 cursor-pointer text-left text-primary text-sm"
          aria-expanded={all}
          onClick={() => setAll(!all)}
        >
          {all ? "Fewer" : `All ${items.length}`}
        </button>
      )}
    </section>
  );
}

function Limit({ one }: { one: Schemas["HostRule"] }) {
  const used = one.distance === null ? null : Math.min(1, Math.max(0, 1 - one.distance));
  return (
    <li className="grid grid-cols-[20px_minmax(0,1.2fr)_minmax(0,1fr)_minmax(0,2fr)_minmax(0,1fr)] items-center gap-x-3 py-1">
      <Signal state={one.level} size={15} label={one.level} />
      <span className="min-w-0 truncate">
        <Link className="font-semibold hover:underline" to={`/rules/${encodeURIComponent(one.rule)}`}>
          {one.rule}
        </Link>{" "}
        <span className="text-ink-2">{Object.values(one.attributes).join(" ")}</span>
      </span>
      <span className="flex items-center gap-2">
        <span className="h-1.5 w-16 bg-base-200" aria-hidden="true">
          {used !== null && (
            <span
              className={`block h-full ${one.level === "ok" ? "bg-primary/60" : "bg-error"}`}
              style={{ width: `${used * 100}%` }}
            />
          )}
        </span>
        {one.value === null ? "–" : withUnit(one.value, one.unit)}
      </span>
      <span className="min-w-0 truncate text-ink-2">
        {one.note ||
          [
            one.limits.warning && `warning ${limitWords(one.limits.warning, one.unit)}`,
            one.limits.critical && `critical ${limitWords(one.limits.critical, one.unit)}`,
          ]
            .filter(Boolean)
            .join(", ")}
      </span>
      <span className="min-w-0 truncate text-right text-ink-2">{one.from}</span>
    </li>
  );
}
