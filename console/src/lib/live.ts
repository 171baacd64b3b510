import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api } from "../api/client";
import { renewing } from "./renewing";

export type Link = "open" | "waiting" | "lost";

/** How long without a heartbeat before what is shown counts as stale, ms. */
export const STALE_AFTER = 25_000;

/** Decides how long to wait before opening the stream anew, ms. */
export function reopenAfter(failures: number): number {
  return Math.min(30_000, 1000 * 2 ** Math.min(failures, 5));
}

/** One stream for the whole page: what changed is asked for anew, and the page says when it hears nothing. */
export function useLive(signedIn: boolean): Link {
  const client = useQueryClient();
  const [link, setLink] = useState<Link>("waiting");
  useEffect(() => {
    if (!signedIn) return undefined;
    let source: EventSource | undefined;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let failures = 0;
    let ended = false;
    let opened = false;
    const { renew, stop } = renewing({
      isFetching: (kind) => client.isFetching({ queryKey: [kind] }),
      invalidate: (kind) => void client.invalidateQueries({ queryKey: [kind] }).catch(() => undefined),
    });
    const heard = () => {
      failures = 0;
      setLink("open");
      clearTimeout(timer);
      timer = setTimeout(() => setLink("lost"), STALE_AFTER);
    };
    const open = () => {
      source = new EventSource("/api/v1/live");
      source.addEventListener("hello", () => {
        heard();
        // What was asked for as the page opened is of now; what is wrong is looked at again all the same.
        renew("alerts", "incidents", "incident");
        if (opened) renew("hosts", "groups");
        opened = true;
      });
      source.addEventListener("heartbeat", heard);
      source.addEventListener("state", () => {
        heard();
        renew("hosts", "groups", "states", "tree", "dashboards");
      });
      source.addEventListener("alert", () => {
        heard();
        renew("alerts", "alert", "hosts", "groups", "tree", "dashboards");
      });
      source.addEventListener("incident", () => {
        heard();
        renew("incidents", "incident", "status", "dashboards");
      });
      source.addEventListener("lost", () => renew("alerts", "incidents", "incident", "hosts", "groups"));
      source.onerror = () => {
        if (source?.readyState !== EventSource.CLOSED || ended) return;
        setLink("lost");
        failures += 1;
        // A stream that was refused never comes back by itself: find out why, then try again.
        api
          .GET("/api/v1/session")
          .then((answer) => {
            if (answer.data?.name === null) window.dispatchEvent(new CustomEvent("balise:signed-out"));
          })
          .catch(() => undefined);
        timer = setTimeout(open, reopenAfter(failures));
      };
    };
    open();
    return () => {
      ended = true;
      clearTimeout(timer);
      stop();
      source?.close();
    };
  }, [client, signedIn]);
  return link;
}
