import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Box, Line, Listing, Once, Sending } from "./parts";

type Role = Schemas["NewToken"]["role"];

export function Component() {
  const client = useQueryClient();
  const { now } = useSpan();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => got(api.GET("/api/v1/tokens")) });
  const [form, setForm] = useState({ name: "", role: "ingest" as Role });
  const [scope, setScope] = useState({ hosts: "", newHosts: "1000", collected: false });
  const [made, setMade] = useState<string>();
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = async () => {
    const asked: Schemas["NewToken"] =
      form.role === "ingest"
        ? {
            ...form,
            scope: {
              hosts: scope.hosts || null,
              kinds: ["metrics", "logs"],
              new_hosts: Number(scope.newHosts),
              collected: scope.collected,
            },
          }
        : form;
    const answer = await got(api.POST("/api/v1/tokens", { body: asked }));
    setMade(answer.token);
    setForm({ ...form, name: "" });
    await again();
  };
  if (tokens.isError) return <Failure error={tokens.error} />;
  if (!tokens.data) return <Waiting what="the tokens" />;
  return (
    <>
      <Sending
        send={make}
        label="Make a token"
        note="For programs: ingest may only deliver OTLP to /v1/metrics and /v1/logs; the others are like users of that role."
      >
        <Box label="Name">
          <input
            className="input input-sm w-56"
            required
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
          />
        </Box>
        <Box label="Role">
          <select
            className="select select-sm w-36"
            value={form.role}
            onChange={(e) => setForm({ ...form, role: e.target.value as Role })}
          >
            <option>ingest</option>
            <option>viewer</option>
            <option>operator</option>
            <option>administrator</option>
          </select>
        </Box>
        {form.role === "ingest" && (
          <>
            <Box label="For the hosts">
              <input
                className="input input-sm w-64 font-mono"
                value={scope.hosts}
                onChange={(e) => setScope({ ...scope, hosts: e.target.value })}
                placeholder={'all, or like name sw "gate-"'}
              />
            </Box>
            <Box label="New hosts it may make">
              <input
                className="input input-sm w-28"
                type="number"
                min={0}
                max={20000}
                value={scope.newHosts}
                onChange={(e) => setScope({ ...scope, newHosts: e.target.value })}
              />
            </Box>
            <Box label="Hosts that are collected from">
              <select
                className="select select-sm w-44"
                value={scope.collected ? "also" : "not"}
                onChange={(e) => setScope({ ...scope, collected: e.target.value === "also" })}
              >
                <option value="not">not for these</option>
                <option value="also">also for these</option>
              </select>
            </Box>
          </>
        )}
      </Sending>
      {made && <Once title="The token, shown only now:" text={made} done={() => setMade(undefined)} />}
      {tokens.data.items.length === 0 && <Empty title="No tokens yet" />}
      {tokens.data.items.length > 0 && (
        <Listing columns={["name", "role", "delivers for", "made", ""]}>
          {tokens.data.items.map((t) => (
            <Line
              key={t.id}
              cells={[
                t.name,
                t.role,
                t.scope ? scopeInWords(t.scope, t.new_hosts ?? 0) : "",
                moment(unix(t.created_at), now),
              ]}
              action={
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  onClick={() => {
                    got(api.DELETE("/api/v1/tokens/{number}", { params: { path: { number: t.id } } }))
                      .then(again)
                      .catch(() => again());
                  }}
                >
                  Revoke
                </button>
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}

function scopeInWords(scope: Schemas["Scope"], made: number): string {
  const kinds = scope.kinds?.length === 1 ? `${scope.kinds[0]} alone, ` : "";
  const hosts = scope.hosts ? `hosts ${scope.hosts}` : "all hosts";
  const collected = scope.collected ? "" : " that nothing else collects from";
  return `${kinds}${hosts}${collected}; made ${made} of ${scope.new_hosts ?? 0} new ones`;
}
