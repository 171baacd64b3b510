import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, unix } from "../lib/format";
import { BLANK_TOKEN, TOKEN_ROLES, type TokenForm, tokenOf } from "../lib/tokenForm";
import { useSpan } from "../lib/useSpan";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";
import { Line, Listing, Once } from "./parts";

export function Component() {
  const client = useQueryClient();
  const { now } = useSpan();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => got(api.GET("/api/v1/tokens")) });
  const form = useForm<TokenForm>(BLANK_TOKEN);
  const [made, setMade] = useState<{ token: string; screen: string | undefined }>();
  const again = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const make = async () => {
    const asked = tokenOf(form.values);
    const { token } = await got(api.POST("/api/v1/tokens", { body: asked }));
    const shown = asked.scope?.dashboards ?? [];
    setMade({ token, screen: shown.length ? screenOf(shown, token) : undefined });
    form.set({ name: "" });
    await again();
  };
  if (tokens.isError) return <Failure error={tokens.error} />;
  if (!tokens.data) return <Waiting what="the tokens" />;
  return (
    <>
      <RowForm
        form={form}
        send={make}
        label="Make a token"
        note="For programs: ingest may only deliver OTLP to /v1/metrics and /v1/logs; the others are like users of that role."
      >
        <TextField name="name" label="Name" width="w-56" required />
        <ChoiceField name="role" label="Role" width="w-36" options={TOKEN_ROLES} />
        {form.values.role === "screen" && (
          <TextField
            name="dashboards"
            label="Dashboards it may see"
            place="scope.dashboards"
            width="w-72"
            placeholder="names, parted by commas"
            required
          />
        )}
        {form.values.role === "ingest" && (
          <>
            <WhereField
              name="hosts"
              label="For the hosts"
              place="scope.hosts"
              width="w-64"
              placeholder={'all, or like name sw "gate-"'}
            />
            <TextField
              name="newHosts"
              label="New hosts it may make"
              place="scope.new_hosts"
              type="number"
              min={0}
              max={20000}
              width="w-28"
            />
            <ChoiceField
              name="collected"
              label="Hosts that are collected from"
              width="w-44"
              options={[
                ["not", "not for these"],
                ["also", "also for these"],
              ]}
            />
          </>
        )}
      </RowForm>
      {made && <Once title="The token, shown only now:" text={made.token} done={() => setMade(undefined)} />}
      {made?.screen && (
        <Once title="What the screen opens, with its token:" text={made.screen} done={() => setMade(undefined)} />
      )}
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

/** The address that a screen opens: its token stands where no server sees it. */
function screenOf(dashboards: string[], token: string): string {
  return `${window.location.origin}/screen/${dashboards.map(encodeURIComponent).join(",")}#token=${token}`;
}

function scopeInWords(scope: Schemas["Scope"], made: number): string {
  if (scope.dashboards?.length) return `sees ${scope.dashboards.join(", ")}`;
  const kinds = scope.kinds?.length === 1 ? `${scope.kinds[0]} alone, ` : "";
  const hosts = scope.hosts ? `hosts ${scope.hosts}` : "all hosts";
  const collected = scope.collected ? "" : " that nothing else collects from";
  return `${kinds}${hosts}${collected}; made ${made} of ${scope.new_hosts ?? 0} new ones`;
}
