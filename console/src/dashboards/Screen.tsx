import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { askWith } from "../api/client";
import { clock, moment } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { Failure, Waiting } from "../ui/Note";
import { Sheet } from "./Sheet";
import { chosenIn, useAnswers, useBoard } from "./useBoard";

/** Seconds for which each of several dashboards is shown. */
const TURN = 30;
/** How much larger everything stands on a screen across the room. */
const LARGER = "1.4";
/** When what is shown is this old, seconds, the screen says so. */
const STALE = 60;

/** Dashboards on a screen that nobody touches: no menu, larger, one after the other. */
export function Component() {
  const { names = "" } = useParams();
  const token = /(?:^#|&)token=([^&]+)/.exec(window.location.hash)?.[1];
  const client = useMemo(() => {
    if (token) askWith(token);
    const made = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchInterval: 15_000 } } });
    // A screen sees its dashboards alone: no limits of rules are asked for.
    made.setQueryDefaults(["rules"], { enabled: false });
    return made;
  }, [token]);
  useEffect(() => {
    document.documentElement.style.zoom = LARGER;
    return () => {
      document.documentElement.style.zoom = "";
    };
  }, []);
  return (
    <QueryClientProvider client={client}>
      <Wall names={names.split(",").filter(Boolean)} />
    </QueryClientProvider>
  );
}

function Wall({ names }: { names: string[] }) {
  const [parameters] = useSearchParams();
  const every = Math.max(5, Number(parameters.get("every")) || TURN);
  const [at, setAt] = useState(0);
  useEffect(() => {
    if (names.length < 2) return undefined;
    const timer = setInterval(() => setAt((held) => held + 1), every * 1000);
    return () => clearInterval(timer);
  }, [names.length, every]);
  const name = names[at % names.length] ?? "";
  return (
    <main className="min-h-screen px-6 py-3" aria-label="Control room">
      <One key={name} name={name} place={names.length > 1 ? `${(at % names.length) + 1} of ${names.length}` : ""} />
    </main>
  );
}

function One({ name, place }: { name: string; place: string }) {
  const [parameters] = useSearchParams();
  const { span, now } = useSpan();
  const board = useBoard(name);
  const answer = useAnswers(board.data, span, chosenIn(parameters, board.data));
  const heard = answer.dataUpdatedAt / 1000;
  useEffect(() => {
    document.title = `${name} – Balise`;
  }, [name]);
  return (
    <>
      <header className="mb-3 flex items-baseline gap-4">
        <h1 className="font-semibold text-2xl">{name}</h1>
        <p className="grow truncate text-ink-2">{board.data?.about}</p>
        <p className="text-ink-2">{place}</p>
        <p className="font-dense font-semibold text-2xl">{clock(Date.now() / 1000)}</p>
      </header>
      {board.isError && <Failure error={board.error} />}
      {answer.isError && <Failure error={answer.error} />}
      {heard > 0 && now - heard > STALE && (
        <p role="alert" className="mb-2 border-warning border-l-4 pl-3">
          Nothing was heard from the console since {moment(heard, now, true)}: what is shown is of then.
        </p>
      )}
      {!board.data && !board.isError && <Waiting what={name} lines={8} />}
      {board.data && (
        <div inert>
          <Sheet panels={board.data.panels} answer={answer.data} span={span} draw={() => undefined} />
        </div>
      )}
    </>
  );
}
