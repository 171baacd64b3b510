import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../api/client";
import { BLANK_CREDENTIAL, type CredentialForm, credentialOf, SHAPES } from "../lib/credentialForm";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { AreaField, ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { Line, Listing } from "./parts";

export function Component() {
  const client = useQueryClient();
  const may = useMay("administrator");
  const { now } = useSpan();
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const [error, setError] = useState<unknown>();
  const again = () => client.invalidateQueries({ queryKey: ["credentials"] });
  if (credentials.isError) return <Failure error={credentials.error} />;
  if (!credentials.data) return <Waiting what="the credentials" />;
  return (
    <>
      {may && <NewCredential again={again} />}
      {error !== undefined && <Failure error={error} />}
      {credentials.data.items.length === 0 ? (
        <Empty title="No credentials yet">A credential is what hosts are read with over SSH and SNMP.</Empty>
      ) : (
        <Listing columns={["name", "kind", "user", "fingerprint", "for", "hosts", "changed", ""]}>
          {credentials.data.items.map((c) => (
            <Line
              key={c.name}
              cells={[
                c.name,
                c.kind === "snmp" ? `SNMP v${String(c.settings.version)}` : c.kind === "ssh" ? "SSH" : "login",
                String(c.settings.user ?? ""),
                <span key="f" className="text-sm">
                  {String(c.settings.fingerprint ?? c.settings.by ?? "")}
                </span>,
                `${c.role === "operator" ? "operators" : "administrators"}${c.groups.length ? `, in ${c.groups.join(", ")}` : ""}`,
                String(c.used_by),
                `${moment(unix(c.updated_at), now)} by ${c.updated_by}`,
              ]}
              action={
                may && (
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs"
                    onClick={() => {
                      setError(undefined);
                      got(api.DELETE("/api/v1/credentials/{name}", { params: { path: { name: c.name } } }))
                        .then(again)
                        .catch(setError);
                    }}
                  >
                    Delete
                  </button>
                )
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}

const KINDS = [
  ["ssh-key", "SSH with a key"],
  ["ssh-password", "SSH with a password"],
  ["snmp-3", "SNMP v3"],
  ["snmp-2c", "SNMP v2c"],
  ["login", "user and password"],
] as const;
const ROLES = [
  ["administrator", "administrators"],
  ["operator", "operators too"],
] as const;

function NewCredential({ again }: { again: () => Promise<void> }) {
  const form = useForm<CredentialForm>(BLANK_CREDENTIAL);
  const shape = SHAPES[form.values.form];
  const keep = async () => {
    const path = { name: form.values.name };
    await got(api.PUT("/api/v1/credentials/{name}", { params: { path }, body: credentialOf(form.values) }));
    form.reset();
    await again();
  };
  return (
    <RowForm
      form={form}
      send={keep}
      label="Keep the credential"
      note="Kept encrypted and never shown again. One that is in use is tried on every host that uses it before it is kept."
    >
      <TextField name="name" label="Name" width="w-40" required />
      <ChoiceField name="form" label="Kind" width="w-44" options={KINDS} />
      {shape?.user && <TextField name="user" label="User" width="w-32" required />}
      {shape?.key && <AreaField name="key" label="Private key" place="private_key" mono width="h-16 w-72" required />}
      {shape && <TextField name="secret" label={shape.secret} type="password" width="w-44" required={shape.needed} />}
      {shape?.privacy && <TextField name="privacy" label="Privacy (AES-128)" type="password" width="w-44" />}
      <ChoiceField name="role" label="May be used by" width="w-36" options={ROLES} />
      <TextField name="groups" label="For hosts of the groups" width="w-44" placeholder="all" />
    </RowForm>
  );
}
