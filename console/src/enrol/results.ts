import type { Schemas } from "../api/client";

export type Result = NonNullable<Schemas["TestedEntry"]["result"]>;

/** What a result is called, and whether somebody has to do something. */
export const RESULT_WORDS: Record<Result, string> = {
  added: "added",
  "already-enrolled": "already enrolled",
  refused: "refused",
  "timed-out": "timed out",
  "wrong-host-key": "wrong host key",
  "wrong-credential": "wrong credential",
  "no-permission": "no permission",
  failed: "failed",
};

export function isGood(result: string | null): boolean {
  return result === "added" || result === "already-enrolled";
}

type Entry = Schemas["TestedEntry"];

/** What has to be put right first, then what is still being tested, then what is good. */
export function inOrderOfWork(entries: Entry[]): Entry[] {
  const rank = (e: Entry) => (e.result === null ? 1 : isGood(e.result) ? 2 : 0);
  return [...entries].sort((a, b) => rank(a) - rank(b) || a.position - b.position);
}
