import type { Schemas } from "../api/client";

/** A credential as the form holds it; `form` is which of its shapes is filled in. */
export interface CredentialForm {
  name: string;
  form: string;
  user: string;
  secret: string;
  key: string;
  privacy: string;
  role: string;
  groups: string;
}

export const BLANK_CREDENTIAL: CredentialForm = {
  name: "",
  form: "ssh-key",
  user: "",
  secret: "",
  key: "",
  privacy: "",
  role: "administrator",
  groups: "",
};

type Body =
  | Schemas["SshCredential"]
  | Schemas["Snmp2Credential"]
  | Schemas["Snmp3Credential"]
  | Schemas["LoginCredential"];

/** What each shape of a credential asks for: the label of its secret, and what else there is. */
export const SHAPES: Record<string, { secret: string; needed: boolean; user: boolean; key?: true; privacy?: true }> = {
  "ssh-key": { secret: "Passphrase, if it has one", needed: false, user: true, key: true },
  "ssh-password": { secret: "Password", needed: true, user: true },
  "snmp-3": { secret: "Authentication (SHA-256)", needed: true, user: true, privacy: true },
  "snmp-2c": { secret: "Community", needed: true, user: false },
  login: { secret: "Password", needed: true, user: true },
};

export function credentialOf(form: CredentialForm): Body {
  const groups = form.groups
    .split(",")
    .map((g) => g.trim())
    .filter(Boolean);
  const use = { role: form.role as "operator" | "administrator", groups };
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
