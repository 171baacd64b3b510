import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { moment, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Box, Line, Listing, Sending } from "./parts";

const EMPTY = {
  name: "",
  form: "ssh-key",
  user: "",
  secret: "",
  key: "",
  privacy: "",
  role: "administrator",
  groups: "",
};
type Form = typeof EMPTY;
type Body =
  | Schemas["SshCredential"]
  | Schemas["Snmp2Credential"]
  | Schemas["Snmp3Credential"]
  | Schemas["LoginCredential"];

/** What a filled form means. */
function bodyOf(form: Form): Body {
  const use = {
    role: form.role as "operator" | "administrator",
    groups: form.groups
      .split(",")
      .map((g) => g.trim())
      .filter(Boolean),
  };
  if (form.form === "ssh-key")
    return { ...use, kind: "ssh", user: form.user, private_key: form.key, passphrase: form.secret || null };
  if (form.form === "ssh-password") return { ...use, kind: "ssh", user: form.user, password: form.secret };
  if (form.form === "snmp-2c") return { ...use, kind: "snmp", version: "2c", community: form.secret };
  if (form.form === "snmp-3")
    return {
      ...use,
      kind: "snmp",
      version: "3",
      user: form.user,
      auth: { protocol: "SHA-256", password: form.secret },
      privacy: form.privacy ? { protocol: "AES-128", password: form.privacy } : null,
    };
  return { ...use, kind: "login", user: form.user, password: form.secret };
}

export function Component() {
  const client = useQueryClient();
  const may = useMay("administrator");
  const { now } = useSpan();
  const credentials = useQuery({ queryKey: ["credentials"], queryFn: () => got(api.GET("/api/v1/credentials")) });
  const [form, setForm] = useState(EMPTY);
  const [error, setError] = useState<unknown>();
  const set = (change: Partial<Form>) => setForm((held) => ({ ...held, ...change }));
  const again = () => client.invalidateQueries({ queryKey: ["credentials"] });
  const keep = async () => {
    await got(api.PUT("/api/v1/credentials/{name}", { params: { path: { name: form.name } }, body: bodyOf(form) }));
    setForm(EMPTY);
    await again();
  };
  if (credentials.isError) return <Failure error={credentials.error} />;
  if (!credentials.data) return <Waiting what="the credentials" />;
  const text = (key: "name" | "user" | "groups", label: string, width: string, placeholder = "") => (
    <Box label={label}>
      <input
        className={`input input-sm ${width}`}
        required={key !== "groups"}
        autoComplete="off"
        placeholder={placeholder}
        value={form[key]}
        onChange={(e) => set({ [key]: e.target.value })}
      />
    </Box>
  );
  const secret = (key: "secret" | "privacy", label: string, needed = true) => (
    <Box label={label}>
      <input
        className="input input-sm w-44"
        type="password"
        required={needed}
        autoComplete="new-password"
        value={form[key]}
        onChange={(e) => set({ [key]: e.target.value })}
      />
    </Box>
  );
  return (
    <>
      {may && (
        <Sending
          send={keep}
          label="Keep the credential"
          note="Kept encrypted and never shown again. One that is in use is tried on every host that uses it before it is kept."
        >
          {text("name", "Name", "w-40")}
          <Box label="Kind">
            <select className="select select-sm w-44" value={form.form} onChange={(e) => set({ form: e.target.value })}>
              <option value="ssh-key">SSH with a key</option>
              <option value="ssh-password">SSH with a password</option>
              <option value="snmp-3">SNMP v3</option>
              <option value="snmp-2c">SNMP v2c</option>
              <option value="login">user and password</option>
            </select>
          </Box>
          {form.form !== "snmp-2c" && text("user", "User", "w-32")}
          {form.form === "ssh-key" && (
            <>
              <Box label="Private key">
                <textarea
                  className="textarea textarea-sm h-16 w-72 font-mono text-xs"
                  required
                  spellCheck={false}
                  value={form.key}
                  onChange={(e) => set({ key: e.target.value })}
                />
              </Box>
              {secret("secret", "Passphrase, if it has one", false)}
            </>
          )}
          {form.form === "ssh-password" && secret("secret", "Password")}
          {form.form === "login" && secret("secret", "Password")}
          {form.form === "snmp-2c" && secret("secret", "Community")}
          {form.form === "snmp-3" && secret("secret", "Authentication (SHA-256)")}
          {form.form === "snmp-3" && secret("privacy", "Privacy (AES-128)", false)}
          <Box label="May be used by">
            <select className="select select-sm w-36" value={form.role} onChange={(e) => set({ role: e.target.value })}>
              <option value="administrator">administrators</option>
              <option value="operator">operators too</option>
            </select>
          </Box>
          {text("groups", "For hosts of the groups", "w-44", "all")}
        </Sending>
      )}
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
