import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useSession } from "../signin/session";
import { Failure, Waiting } from "../ui/Note";
import { Box, Line, Listing, Sending } from "./parts";

type Role = Schemas["NewUser"]["role"];

export function Component() {
  const client = useQueryClient();
  const { me } = useSession();
  const { now } = useSpan();
  const users = useQuery({ queryKey: ["users"], queryFn: () => got(api.GET("/api/v1/users")) });
  const [form, setForm] = useState({ name: "", role: "viewer" as Role, password: "" });
  const again = () => client.invalidateQueries({ queryKey: ["users"] });
  const add = async () => {
    await got(api.POST("/api/v1/users", { body: form }));
    setForm({ ...form, name: "", password: "" });
    await again();
  };
  if (users.isError) return <Failure error={users.error} />;
  if (!users.data) return <Waiting what="the users" />;
  return (
    <>
      <Sending
        send={add}
        label="Add a user"
        note="A viewer looks, an operator also acknowledges and changes rules, an administrator does everything."
      >
        <Box label="Name">
          <input
            className="input input-sm w-44"
            required
            value={form.name}
            autoComplete="off"
            onChange={(e) => setForm({ ...form, name: e.target.value })}
          />
        </Box>
        <Box label="Role">
          <select
            className="select select-sm w-36"
            value={form.role}
            onChange={(e) => setForm({ ...form, role: e.target.value as Role })}
          >
            <option>viewer</option>
            <option>operator</option>
            <option>administrator</option>
          </select>
        </Box>
        <Box label="Password, 8 letters or more">
          <input
            className="input input-sm w-52"
            type="password"
            required
            minLength={8}
            autoComplete="new-password"
            value={form.password}
            onChange={(e) => setForm({ ...form, password: e.target.value })}
          />
        </Box>
      </Sending>
      <Listing columns={["name", "role", "last signed in", ""]}>
        {users.data.items.map((u) => (
          <Line
            key={u.name}
            cells={[u.name, u.role, u.signed_in_at ? moment(unix(u.signed_in_at), now) : "never"]}
            action={
              u.name !== me.name && (
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  onClick={() => {
                    if (!window.confirm(`Remove ${u.name}?`)) return;
                    got(api.DELETE("/api/v1/users/{name}", { params: { path: { name: u.name } } }))
                      .then(again)
                      .catch(() => again());
                  }}
                >
                  Remove
                </button>
              )
            }
          />
        ))}
      </Listing>
    </>
  );
}
