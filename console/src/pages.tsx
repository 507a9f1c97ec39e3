import { lazy } from "react";
import type { ComponentType } from "react";

type Row = {
  path: string;
  name?: string; // in the navigation; what has none is reached from another page
  Page: ComponentType;
};

const row = <K extends string>(
  path: string,
  name: string | undefined,
  load: () => Promise<Record<K, ComponentType>>,
  what: K,
): Row => ({ path, name, Page: lazy<ComponentType>(async () => ({ default: (await load())[what] })) });

/** All pages, in the order of the navigation. Each is loaded when it is opened. */
export const pages: Row[] = [
  row("attention", "Attention", () => import("./pages/Attention"), "Attention"),
  row("lineages", "Lineages", () => import("./pages/Lineages"), "Lineages"),
  row("lineages/:name", undefined, () => import("./pages/LineagePage"), "LineagePage"),
  row("copies", "Copies", () => import("./pages/Copies"), "Copies"),
  row("hosts", "Hosts", () => import("./pages/Hosts"), "Hosts"),
  row("packages", "Packages", () => import("./pages/Packages"), "Packages"),
  row("jobs", "Jobs", () => import("./pages/Jobs"), "Jobs"),
  row("jobs/:id", undefined, () => import("./pages/JobPage"), "JobPage"),
  row("history", "History", () => import("./pages/History"), "History"),
  row("account", undefined, () => import("./pages/Account"), "Account"),
  row("compare", undefined, () => import("./pages/Compare"), "Compare"),
  row("wiring", "Wiring", () => import("./pages/Wiring"), "Wiring"),
  row("managers", "Managers", () => import("./pages/Managers"), "Managers"),
];
