interface Begun {
  said: Promise<string>;
  answer: Promise<Response>;
}

/** What is asked for while most of a page's code is still on its way, by method and address: the page, which asks the
 * same as soon as it is there, gets that answer. */
const begun = new Map<string, Begun>();
let begins = false;
/** Milliseconds after which nobody gets it any more. */
const KEPT = 10_000;

/** From now on what is asked is kept for whoever asks the same. */
export function beginEarly(): void {
  begins = true;
}

/** From now on what was kept is handed out, each answer once. */
export function endEarly(): void {
  begins = false;
  setTimeout(() => begun.clear(), KEPT);
}

/** The answer to a request: the one that was begun early, if there is one and it was not refused. */
export async function asking(request: Request): Promise<Response> {
  const key = `${request.method} ${request.url}`;
  if (begins) {
    const said = saidIn(request);
    const answer = fetch(request);
    // Whoever asks later reads a copy, which has to be made before anybody reads.
    const copy = answer.then((one) => one.clone());
    copy.catch(() => undefined);
    begun.set(key, { said, answer: copy });
    return answer;
  }
  // Whoever signs in or out is shown nothing that was asked before.
  if (request.method !== "GET" && request.url.endsWith("/session")) begun.clear();
  const one = begun.get(key);
  if (!one) return fetch(request);
  begun.delete(key);
  if ((await one.said) !== (await saidIn(request))) return fetch(request);
  const held = await one.answer.catch(() => undefined);
  return held?.ok ? held : fetch(request);
}

async function saidIn(request: Request): Promise<string> {
  return request.method === "GET" ? "" : await request.clone().text();
}
