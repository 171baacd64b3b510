import type { Schemas } from "../api/client";

export const PROBE_KINDS = [
  "http",
  "tcp",
  "tls",
  "dns",
  "smtp",
  "imap",
  "pop3",
  "ftp",
  "ldap",
  "ssh",
  "icmp",
  "postgresql",
  "mariadb",
  "redis",
] as const;
const QUERIES: readonly string[] = ["postgresql", "mariadb", "redis"];
const SAYS_NOTHING: readonly string[] = ["icmp", "tls"];

/** A probe as the form holds it: everything text, as typed. */
export interface ProbeForm {
  probe: string;
  kind: string;
  target: string;
  name: string;
  every: string;
  limit: string;
  query: string;
  value: string;
  text: string;
  credential: string;
  from: string[];
}

export const BLANK_PROBE: ProbeForm = {
  probe: "",
  kind: "http",
  target: "",
  name: "",
  every: "60s",
  limit: "10s",
  query: "",
  value: "",
  text: "",
  credential: "",
  from: [],
};

/** What a kind of probe can be asked for. */
export function askedOf(kind: string): { url: boolean; name: boolean; query: boolean; text: boolean } {
  return {
    url: kind === "http",
    name: kind === "dns",
    query: QUERIES.includes(kind),
    text: !SAYS_NOTHING.includes(kind),
  };
}

export function probeOf(form: ProbeForm): Schemas["ProbeBody"] {
  const asked = askedOf(form.kind);
  const target = form.target.trim();
  const [address = "", port] = target.split(":");
  const expect: { text?: string; value?: string } = {};
  if (asked.text && form.text.trim()) expect.text = form.text.trim();
  if (asked.query && form.value.trim()) expect.value = form.value.trim();
  return {
    kind: form.kind,
    target: asked.name ? { address, ...(port ? { port: Number(port) } : {}), name: form.name.trim() } : target,
    every: form.every.trim() || "60s",
    time_limit: form.limit.trim() || "10s",
    from: form.from,
    credential: form.credential || null,
    query: asked.query ? form.query.trim() || null : null,
    expect,
  } as Schemas["ProbeBody"];
}
