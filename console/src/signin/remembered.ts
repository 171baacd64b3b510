import type { Me } from "../api/client";

const KEY = "balise.session";

/** Who was signed in here last, so that pages need not wait for the answer who it is; nobody once that is told. */
export function remembered(): Me | undefined {
  try {
    const held: unknown = JSON.parse(localStorage.getItem(KEY) ?? "null");
    const who = held as Partial<Me> | null;
    return typeof who?.name === "string" && typeof who.role === "string" ? (who as Me) : undefined;
  } catch {
    return undefined;
  }
}

/** Keeps what the console says of who is signed in. */
export function remember(me: Me): void {
  try {
    if (me.name === null) localStorage.removeItem(KEY);
    else localStorage.setItem(KEY, JSON.stringify(me));
  } catch {
    // Without room or leave to keep it, pages wait for the answer.
  }
}
