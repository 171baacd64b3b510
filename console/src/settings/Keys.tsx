import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Box, Line, Listing, Once, Sending } from "./parts";

export function Component() {
  const client = useQueryClient();
  const { now } = useSpan();
  const keys = useQuery({
    queryKey: ["keys"],
    queryFn: () => got(api.GET("/api/v1/enrolment-keys")),
    refetchInterval: 10_000,
  });
  const [wanted, setWanted] = useState({ label: "", uses: "1", expires: "24h", group: "", site: "" });
  const [made, setMade] = useState<string>();
  const again = () => client.invalidateQueries({ queryKey: ["keys"] });
  const make = async () => {
    const answer = await got(
      api.POST("/api/v1/enrolment-keys", {
        body: {
          label: wanted.label,
          uses: Number(wanted.uses),
          expires_in: wanted.expires,
          group: wanted.group || null,
          site: wanted.site || null,
          labels: {},
          approval: "automatic",
        },
      }),
    );
    setMade(answer.command);
    setWanted({ ...wanted, label: "" });
    await again();
  };
  const revoke = (number: number, agents: boolean) => {
    got(api.DELETE("/api/v1/enrolment-keys/{number}", { params: { path: { number }, query: { agents } } }))
      .then(again)
      .catch(() => again());
  };
  return (
    <>
      <Sending
        send={make}
        label="Make a key"
        note="A key lets servers enrol themselves. Run the command it gives on each; it is shown only once."
      >
        <Box label="Label">
          <input
            className="input input-sm w-56"
            required
            value={wanted.label}
            onChange={(e) => setWanted({ ...wanted, label: e.target.value })}
            placeholder="gates at southquay"
          />
        </Box>
        <Box label="Good for how many servers">
          <input
            className="input input-sm w-32"
            type="number"
            min={1}
            max={100000}
            value={wanted.uses}
            onChange={(e) => setWanted({ ...wanted, uses: e.target.value })}
          />
        </Box>
        <Box label="For how long">
          <select
            className="select select-sm w-32"
            value={wanted.expires}
            onChange={(e) => setWanted({ ...wanted, expires: e.target.value })}
          >
            <option value="1h">1 hour</option>
            <option value="24h">1 day</option>
            <option value="7d">7 days</option>
            <option value="30d">30 days</option>
          </select>
        </Box>
        <Box label="They join the group">
          <input
            className="input input-sm w-44"
            value={wanted.group}
            onChange={(e) => setWanted({ ...wanted, group: e.target.value })}
            placeholder="none"
          />
        </Box>
        <Box label="Relays serve the site">
          <input
            className="input input-sm w-44"
            value={wanted.site}
            onChange={(e) => setWanted({ ...wanted, site: e.target.value })}
            placeholder="none"
          />
        </Box>
      </Sending>
      {made && <Once title="Run this on each server:" text={made} done={() => setMade(undefined)} />}
      {keys.isError && <Failure error={keys.error} />}
      {!keys.data && !keys.isError && <Waiting what="the keys" />}
      {keys.data?.items.length === 0 && <Empty title="No enrolment keys yet">Make one above.</Empty>}
      {keys.data && keys.data.items.length > 0 && (
        <Listing columns={["label", "group and labels", "approval", "uses left", "expires", "enrolled", ""]}>
          {keys.data.items.map((key) => (
            <Line
              key={key.id}
              cells={[
                key.label,
                [
                  key.group ?? "",
                  key.site ? `relays of ${key.site}` : "",
                  ...Object.entries(key.labels ?? {}).map(([k, v]) => `${k}=${v}`),
                ]
                  .filter(Boolean)
                  .join(", "),
                `${key.approval}${key.waiting ? `, ${key.waiting} waiting` : ""}`,
                String(key.uses_left),
                key.revoked_at ? `revoked ${moment(unix(key.revoked_at), now)}` : moment(unix(key.expires_at), now),
                shortened(key.enrolled ?? []),
              ]}
              action={
                <>
                  {!key.revoked_at && (
                    <button type="button" className="btn btn-ghost btn-xs" onClick={() => revoke(key.id, false)}>
                      Revoke
                    </button>
                  )}
                  {(key.enrolled ?? []).length > 0 && (
                    <button
                      type="button"
                      className="btn btn-ghost btn-xs"
                      onClick={() => {
                        if (window.confirm(`Revoke the key and the ${(key.enrolled ?? []).length} agents it enrolled?`))
                          revoke(key.id, true);
                      }}
                    >
                      Revoke with its agents
                    </button>
                  )}
                </>
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}

function shortened(names: string[]): string {
  return names.length > 12 ? `${names.slice(0, 12).join(", ")} and ${names.length - 12} more` : names.join(", ");
}
