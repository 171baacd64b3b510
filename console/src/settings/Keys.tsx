import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { moment, unix } from "../lib/format";
import { TIMES } from "../lib/keyForm";
import { useSpan } from "../lib/useSpan";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing, Once } from "./parts";

export function Component() {
  const client = useQueryClient();
  const { now } = useSpan();
  const keys = useQuery({
    queryKey: ["keys"],
    queryFn: () => got(api.GET("/api/v1/enrolment-keys")),
    refetchInterval: 10_000,
  });
  const form = useForm({ label: "", uses: "1", expires: "24h", group: "", site: "" });
  const [made, setMade] = useState<string>();
  const again = () => client.invalidateQueries({ queryKey: ["keys"] });
  const make = async () => {
    const wanted = form.values;
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
    form.set({ label: "" });
    await again();
  };
  const revoke = (number: number, agents: boolean) => {
    got(api.DELETE("/api/v1/enrolment-keys/{number}", { params: { path: { number }, query: { agents } } }))
      .then(again)
      .catch(() => again());
  };
  return (
    <>
      <RowForm
        form={form}
        send={make}
        label="Make a key"
        note="A key lets servers enrol themselves. Run the command it gives on each; it is shown only once."
      >
        <TextField name="label" label="Label" width="w-56" required placeholder="gates at southquay" />
        <TextField name="uses" label="Good for how many servers" type="number" min={1} max={100000} width="w-32" />
        <ChoiceField name="expires" label="For how long" place="expires_in" width="w-32" options={TIMES} />
        <TextField name="group" label="They join the group" width="w-44" placeholder="none" />
        <TextField name="site" label="Relays serve the site" width="w-44" placeholder="none" />
      </RowForm>
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
