import createClient, { type Middleware } from "openapi-fetch";
import { asking } from "../lib/early";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Host = Schemas["Host"];
export type Alert = Schemas["Alert"];
export type AlertDetail = Schemas["AlertDetail"];
export type Incident = Schemas["Incident"];
export type IncidentDetail = Schemas["IncidentDetail"];
export type Rule = Schemas["Rule"];
export type RuleDocument = Schemas["Rehearse"]["rule"];
export type Group = Schemas["Group"];
export type Event = Schemas["Event"];
export type MetricAnswer = Schemas["MetricAnswer"];
export type MetricQuery = Schemas["MetricQuery"];
export type Metric = Schemas["Metric"];
export type Stretch = Schemas["Stretch"];
export type State = Stretch["state"];
export type Severity = Event["severity"];
export type Me = Schemas["Me"];

export interface FieldProblem {
  field: string;
  detail: string;
}

/** The service said no: `message` says what to do, `fields` which input is wrong. */
export class Refused extends Error {
  readonly status: number;
  readonly fields: FieldProblem[];
  constructor(status: number, message: string, fields: FieldProblem[]) {
    super(message);
    this.status = status;
    this.fields = fields;
  }
}

const problems: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return undefined;
    let detail = `The service answered ${response.status}.`;
    let fields: FieldProblem[] = [];
    try {
      const body = await response.clone().json();
      detail = body.detail ?? detail;
      fields = body.errors ?? [];
    } catch {
      // No problem document: the status alone has to do.
    }
    if (response.status === 401) window.dispatchEvent(new CustomEvent("balise:signed-out"));
    throw new Refused(response.status, detail, fields);
  },
};

let bearer = "";

/** From now on everything is asked with a token: for a screen that nobody signs in at. */
export function askWith(token: string): void {
  bearer = token;
}

const signed: Middleware = {
  onRequest({ request }) {
    if (bearer) request.headers.set("Authorization", `Bearer ${bearer}`);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: window.location.origin, fetch: asking });
api.use(signed, problems);

/** The data of an answer that was not refused. */
export async function got<T>(answer: Promise<{ data?: T }>): Promise<T> {
  const { data } = await answer;
  if (data === undefined) throw new Error("The service sent an empty answer.");
  return data;
}
