import type { Schemas } from "../api/client";

export const CHANNEL_KINDS = ["webhook", "email", "sms", "syslog", "snmp", "command"] as const;
export type ChannelKind = (typeof CHANNEL_KINDS)[number];

/** A channel as the form holds it. */
export interface ChannelForm {
  name: string;
  kind: string;
  url: string;
  to: string;
  server: string;
  port: string;
  security: string;
  user: string;
  secret: string;
  signing: string;
  of: string;
  template: string;
  transport: string;
  version: string;
  privacy: string;
  arguments: string;
}

export const BLANK_CHANNEL: ChannelForm = {
  name: "",
  kind: "webhook",
  url: "",
  to: "",
  server: "127.0.0.1",
  port: "",
  security: "starttls",
  user: "",
  secret: "",
  signing: "",
  of: "incidents",
  template: "",
  transport: "udp",
  version: "v3",
  privacy: "",
  arguments: "",
};

type Body =
  | Schemas["WebhookChannel"]
  | Schemas["EmailChannel"]
  | Schemas["SmsChannel"]
  | Schemas["SyslogChannel"]
  | Schemas["SnmpChannel"]
  | Schemas["CommandChannel"];

/** Words that stand apart by commas or spaces. */
export const words = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean);

const SMS_TEMPLATE = '{"to": {{ to | tojson }}, "text": {{ text | tojson }}}';

export function channelOf(form: ChannelForm): Body {
  const port = (usual: number) => Number(form.port || usual);
  switch (form.kind as ChannelKind) {
    case "webhook":
      return {
        kind: "webhook",
        url: form.url,
        bearer: form.secret || null,
        signing_secret: form.signing || null,
        template: form.template || null,
        content_type: "application/json",
        headers: {},
        of: form.of as "incidents",
      };
    case "sms":
      return {
        kind: "sms",
        url: form.url,
        to: words(form.to),
        bearer: form.secret || null,
        template: form.template || SMS_TEMPLATE,
        content_type: "application/json",
      };
    case "syslog":
      return {
        kind: "syslog",
        server: form.server,
        port: port(514),
        transport: form.transport as "udp",
        facility: 16,
      };
    case "snmp":
      return {
        kind: "snmp",
        server: form.server,
        port: port(162),
        version: form.version as "v3",
        confirmed: true,
        engine: "80007ed90462616c697365",
        ...(form.version === "v2c"
          ? { community: form.secret || null }
          : { user: form.user, authentication: form.secret || null, privacy: form.privacy || null }),
      };
    case "command":
      return { kind: "command", arguments: words(form.arguments) };
    default:
      return {
        kind: "email",
        to: words(form.to),
        sender: "balise@localhost.localdomain",
        server: form.server,
        port: port(25),
        security: form.security as "starttls",
        user: form.user || null,
        password: form.secret || null,
      };
  }
}

/** Where a channel leads, from its settings. */
export function placeOf(channel: Schemas["Channel"]): string {
  const { url, to, server, port, arguments: words_ } = channel.settings as Record<string, unknown>;
  if (Array.isArray(to)) return to.join(", ");
  if (Array.isArray(words_)) return words_.join(" ");
  return url ? String(url) : `${server}:${port}`;
}
