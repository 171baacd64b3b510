import type { Schemas } from "../api/client";

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
}

export const BLANK_CHANNEL: ChannelForm = {
  name: "",
  kind: "webhook",
  url: "",
  to: "",
  server: "127.0.0.1",
  port: "25",
  security: "starttls",
  user: "",
  secret: "",
};

/** Words that stand apart by commas or spaces. */
export const words = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean);

export function channelOf(form: ChannelForm): Schemas["WebhookChannel"] | Schemas["EmailChannel"] {
  if (form.kind === "webhook") return { kind: "webhook", url: form.url, bearer: form.secret || null };
  return {
    kind: "email",
    to: words(form.to),
    sender: "balise@localhost.localdomain",
    server: form.server,
    port: Number(form.port),
    security: form.security as "starttls",
    user: form.user || null,
    password: form.secret || null,
  };
}
