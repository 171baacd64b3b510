import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Failure } from "../ui/Note";

/** Every form that a rule had: who, when, why, what differs; any of them can be put back to work. */
export function History({ name }: { name: string }) {
  const { now } = useSpan();
  const may = useMay("operator");
  const client = useQueryClient();
  const [error, setError] = useState<unknown>();
  const path = { name };
  const versions = useQuery({
    queryKey: ["rules", name, "versions"],
    queryFn: () => got(api.GET("/api/v1/rules/{name}/versions", { params: { path } })),
  });
  const restore = (version: number) =>
    got(api.POST("/api/v1/rules/{name}/restore", { params: { path }, body: { version } }))
      .then(() => client.invalidateQueries({ queryKey: ["rules"] }))
      .catch(setError);
  const items = versions.data?.items ?? [];
  return (
    <section>
      <h2 className="mb-1 font-semibold">Versions</h2>
      {error !== undefined && <Failure error={error} />}
      <ul className="hairline max-h-64 overflow-y-auto font-dense text-sm" tabIndex={items.length > 6 ? 0 : -1}>
        {items.map((one, i) => (
          <li key={one.version} className="py-1">
            <div className="flex gap-2">
              <span className="grow">
                <span className="font-semibold">{one.version}</span> {one.what} by {one.who},{" "}
                {moment(unix(one.at), now)}
                {one.why && <span>: {one.why}</span>}
              </span>
              {may && i > 0 && (
                <button type="button" className="btn btn-ghost btn-xs" onClick={() => void restore(one.version)}>
                  Put back
                </button>
              )}
            </div>
            {one.changes.map((change) => (
              <div key={change} className="text-ink-2">
                {change}
              </div>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}
