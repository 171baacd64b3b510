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
  const [made, setMade] = useState<string>();
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = async () => {
    const answer = await got(api.POST("/api/v1/tokens", { body: form }));
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
      </Sending>
      {made && <Once title="The token, shown only now:" text={made} done={() => setMade(undefined)} />}
      {tokens.data.items.length === 0 && <Empty title="No tokens yet" />}
      {tokens.data.items.length > 0 && (
        <Listing columns={["name", "role", "made", ""]}>
          {tokens.data.items.map((t) => (
            <Line
              key={t.id}
              cells={[t.name, t.role, moment(unix(t.created_at), now)]}
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
