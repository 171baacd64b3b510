import { useCallback, useEffect, useRef, useState } from "react";
import type { Event } from "../api/client";

const MOST = 1000;

export interface Followed {
  /** The newest first. */
  events: Event[];
  /** How many came since it was paused. */
  held: number;
  paused: boolean;
  lost: boolean;
  pause: () => void;
  goOn: () => void;
}

/** Events as they come. While it is paused they are held, so that the place in the list is not lost. */
export function useFollowed(following: boolean, text: string, where: string, filter: string): Followed {
  const [events, setEvents] = useState<Event[]>([]);
  const [held, setHeld] = useState(0);
  const [paused, setPaused] = useState(false);
  const [lost, setLost] = useState(false);
  const waiting = useRef<Event[]>([]);
  const isPaused = useRef(false);
  useEffect(() => {
    setEvents([]);
    setHeld(0);
    setPaused(false);
    setLost(false);
    waiting.current = [];
    isPaused.current = false;
    if (!following) return undefined;
    const query = new URLSearchParams();
    if (text) query.set("text", text);
    if (where) query.set("where", where);
    if (filter) query.set("filter", filter);
    const source = new EventSource(`/api/v1/events/live?${query}`);
    source.addEventListener("hello", () => setLost(false));
    source.addEventListener("event", (message) => {
      waiting.current.unshift(JSON.parse((message as MessageEvent<string>).data) as Event);
      waiting.current.length = Math.min(waiting.current.length, MOST);
    });
    source.onerror = () => setLost(true);
    // A flood is drawn twice a second, not line by line.
    const timer = setInterval(() => {
      if (isPaused.current) {
        setHeld(waiting.current.length);
        return;
      }
      if (!waiting.current.length) return;
      const came = waiting.current;
      waiting.current = [];
      setEvents((before) => [...came, ...before].slice(0, MOST));
    }, 500);
    return () => {
      source.close();
      clearInterval(timer);
    };
  }, [following, text, where, filter]);
  const pause = useCallback(() => {
    isPaused.current = true;
    setPaused(true);
  }, []);
  const goOn = useCallback(() => {
    isPaused.current = false;
    setPaused(false);
    setHeld(0);
  }, []);
  return { events, held, paused, lost, pause, goOn };
}
