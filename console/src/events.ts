import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

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

/** Keeps all queries fresh by the service's stream of events. */
export function useEvents() {
  const queries = useQueryClient();
  const [tries, setTries] = useState(0);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    let again = 0;
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
    for (const kind of Object.keys(stale)) {
      source.addEventListener(kind, () => {
        for (const key of stale[kind] ?? []) waiting.add(key);
        if (timer) return;
        timer = window.setTimeout(() => {
          timer = 0;
          for (const key of waiting) void queries.invalidateQueries({ queryKey: [key] });
          waiting.clear();
        }, settle);
      });
    }
    return () => {
      source.close();
      window.clearTimeout(timer);
      window.clearTimeout(again);
    };
  }, [queries, tries]);
}
