import type { Ask } from "../lib/queries";
import type { Panel } from "../lib/sheet";

/** What is pinned from where it stands, as the panels that show it. */

const MOST_LANES = 10;
const MOST_TITLE = 120;

export function eventsPanel(kind: "events" | "patterns", text: string, where: string): Panel {
  const title = (text || where || (kind === "events" ? "Events" : "Log patterns")).slice(0, MOST_TITLE);
  return { kind, title, at: [0, 0, 6, 5], query: { text: text || null, where: where || null, limit: 20 } };
}

export function listPanel(kind: "incidents" | "alerts", where: string): Panel {
  const title = (where || `Open ${kind}`).slice(0, MOST_TITLE);
  return { kind, title, at: [0, 0, 6, 5], query: { where: where || null, state: "open", limit: 20 } };
}

export function statesPanel(by: string, below: string | undefined, title: string): Panel {
  return { kind: "states", title: title.slice(0, MOST_TITLE), at: [0, 0, 6, 5], query: { by, below: below ?? null } };
}

/** The lanes of a page over each other, as many as a panel may have. */
export function lanesPanel(title: string, asks: Ask[]): Panel {
  const queries = asks.slice(0, MOST_LANES).map((one) => ({ ...asked(one), from: "-3h", to: "now" }));
  return {
    kind: "chart",
    title: title.slice(0, MOST_TITLE),
    at: [0, 0, 12, 8],
    query: { queries, beside: [], usual: false, stack: false, logarithmic: false },
  } as Panel;
}

/** The newest figure of a question, large. */
export function valuePanel(title: string, ask: Ask): Panel {
  return {
    kind: "value",
    title: title.slice(0, MOST_TITLE),
    at: [0, 0, 4, 3],
    query: { ...asked(ask), from: "-3h", to: "now" },
  } as Panel;
}

function asked({ metric, take, by, where }: Ask) {
  return { metric, take, by, where: where ?? null };
}
