import { useSyncExternalStore } from "react";

/** What went wrong behind a sheet that was closed already. */
let list: string[] = [];
const watchers = new Set<() => void>();

const set = (next: string[]) => {
  list = next;
  for (const w of watchers) w();
};

export const tell = (what: string, problem: unknown) =>
  set([...list, `${what}: ${problem instanceof Error ? problem.message : String(problem)}`]);

export const dismiss = (n: number) => set(list.filter((_, i) => i !== n));

const watch = (w: () => void) => {
  watchers.add(w);
  return () => void watchers.delete(w);
};

export const useTroubles = () => useSyncExternalStore(watch, () => list);
