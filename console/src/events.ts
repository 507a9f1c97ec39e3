import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

/** Which queries an event of a kind makes stale. */
const stale: Record<string, string[]> = {
  copy: ["copies"],
  host: ["hosts"],
  pool: ["hosts"],
  manager: ["hosts"],
  attention: ["copies"],
  job: ["jobs", "copies"],
};
const retry = 3000; // ms after which a stream that was refused is asked for anew
const settle = 200; // ms in which several events become one refresh
const mostSettle = 4000; // where events come without end
const calm = 2; // times as long without events, and one refreshes at once again

/** Whether the page is seen. One that is not, or that the browser keeps for the way back, holds no connection: a
 * browser has six of them for a server, for all its tabs. */
function useSeen() {
  const [seen, setSeen] = useState(document.visibilityState === "visible");
  useEffect(() => {
    const look = () => setSeen(document.visibilityState === "visible");
    document.addEventListener("visibilitychange", look);
    return () => {
      document.removeEventListener("visibilitychange", look);
    };
  }, []);
  return seen;
}

/** Keeps all queries fresh by the service's stream of events. */
export function useEvents() {
  const queries = useQueryClient();
  const [tries, setTries] = useState(0);
  const seen = useSeen();
  const away = useRef(false);
  useEffect(() => {
    if (!seen) {
      away.current = true;
      return;
    }
    if (away.current) void queries.invalidateQueries(); // what came meanwhile was not told
    away.current = false;
    const source = new EventSource("/api/v1/events");
    let again = 0;
    const leave = () => source.close(); // at once: a page that is left runs no more
    const back = (e: PageTransitionEvent) => {
      if (!e.persisted) return;
      away.current = true;
      setTries((n) => n + 1);
    };
    window.addEventListener("pagehide", leave);
    window.addEventListener("pageshow", back);
    // Some events were missed, and are not to be had any more.
    source.addEventListener("anew", () => void queries.invalidateQueries());
    source.onerror = () => {
      if (source.readyState !== EventSource.CLOSED) return; // else the browser tries again itself
      again = window.setTimeout(() => {
        void queries.invalidateQueries();
        setTries((n) => n + 1);
      }, retry);
    };
    const waiting = new Set<string>();
    let timer = 0;
    let pause = settle; // twice as long each time, until it is calm
    let last = 0;
    for (const kind of Object.keys(stale)) {
      source.addEventListener(kind, () => {
        for (const key of stale[kind] ?? []) waiting.add(key);
        if (timer) return;
        pause = Date.now() - last > calm * pause ? settle : Math.min(2 * pause, mostSettle);
        timer = window.setTimeout(() => {
          timer = 0;
          last = Date.now();
          for (const key of waiting) void queries.invalidateQueries({ queryKey: [key] });
          waiting.clear();
        }, pause);
      });
    }
    return () => {
      source.close();
      window.removeEventListener("pagehide", leave);
      window.removeEventListener("pageshow", back);
      window.clearTimeout(timer);
      window.clearTimeout(again);
    };
  }, [queries, tries, seen]);
}
