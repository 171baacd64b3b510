import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, got, type Schemas } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useSession } from "../signin/session";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing } from "./parts";

type Role = Schemas["NewUser"]["role"];

export function Component() {
  const client = useQueryClient();
  const { me } = useSession();
  const { now } = useSpan();
  const users = useQuery({ queryKey: ["users"], queryFn: () => got(api.GET("/api/v1/users")) });
  const form = useForm({ name: "", role: "viewer" as Role, password: "" });
  const again = () => client.invalidateQueries({ queryKey: ["users"] });
  const add = async () => {
    await got(api.POST("/api/v1/users", { body: form.values }));
    form.set({ name: "", password: "" });
    await again();
  };
  if (users.isError) return <Failure error={users.error} />;
  if (!users.data) return <Waiting what="the users" />;
  return (
    <>
      <RowForm
        form={form}
        send={add}
        label="Add a user"
        note="A viewer looks, an operator also acknowledges and changes rules, an administrator does everything."
      >
        <TextField name="name" label="Name" width="w-44" required />
        <ChoiceField name="role" label="Role" width="w-36" options={["viewer", "operator", "administrator"]} />
        <TextField
          name="password"
          label="Password, 8 letters or more"
          type="password"
          width="w-52"
          required
          minLength={8}
        />
      </RowForm>
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
