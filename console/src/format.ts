import stripAnsi from "strip-ansi";
import type { Copy, Schemas } from "./api";

/** Bytes in binary units: 1536 → "1.5 KiB". */
export function size(bytes: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
  let n = 0;
  while (bytes >= 1024 && n < units.length - 1) {
    bytes /= 1024;
    n++;
  }
  return `${n === 0 || bytes >= 100 || Number.isInteger(bytes) ? Math.round(bytes) : bytes.toFixed(1)} ${units[n]}`;
}

export function ago(time: string | null | undefined): string {
  if (!time) return "never";
  const seconds = (Date.now() - Date.parse(time)) / 1000;
  if (seconds < 5) return "just now";
  if (seconds < 60) return `${Math.floor(seconds)} s ago`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86400) return `${Math.floor(seconds / 3600)} h ago`;
  return new Date(time).toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" });
}

export const exact = (time: string | null | undefined) => (time ? new Date(time).toLocaleString("en-GB") : "");

export const lastPart = (path: string) => path.slice(path.lastIndexOf("/") + 1);

/** Where a copy is, for people. */
export function place(c: Copy): string {
  if (c.form === "package") return c.shelf || c.pool ? `${c.shelf || c.pool}/${c.rel || lastPart(c.path)}` : c.path;
  return c.form === "registered" ? `${c.host}/${c.name}` : `${c.host}: ${c.pool}/${lastPart(c.path)}`;
}

export function identityWords(c: Copy): string {
  if (c.identity === "renew") return `renewed: ${c.renewed.join(", ")}`;
  return c.identity === "keep" ? "kept" : "its own";
}

export function duration(seconds: number): string {
  if (seconds < 60) return `${seconds} s`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${seconds % 60} s`;
  return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`;
}

export const count = (n: number, noun: string, many = `${noun}s`) =>
  `${n.toLocaleString("en-GB")} ${n === 1 ? noun : many}`;

const mostCounted = 10_000; // of a list, by the service
/** A number of things in a list, which is counted so far only. */
export const counted = (n: number, noun: string, many = `${noun}s`) =>
  n > mostCounted ? `more than ${count(mostCounted, noun, many)}` : count(n, noun, many);

/** Whether a copy is at another management server, and not at a host of ours. */
export const managed = (c: Copy) => c.host.includes("@");

const deeds: Record<string, string> = {
  export: "exported",
  import: "imported",
  register: "registered",
  clone: "cloned",
  move: "moved",
  "put-back": "put back",
  restore: "restored",
  rebuild: "rebuilt",
};

/** How a copy came to be, in a word or two. */
export function madeWords(c: Copy): string {
  if (c.madeBy !== "survey") return deeds[c.madeBy] ?? c.madeBy;
  return c.parent && !managed(c) ? "copied by hand" : "found";
}

// Characters that show nothing.
const unseen = /[^\P{C}\n\t]/gu;

/** The text of a serial port, which comes as base64: without what would steer a terminal. */
export function serialText(base64: string): string {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  return stripAnsi(new TextDecoder().decode(bytes)).replace(unseen, "");
}

/** What hypervisors can, each as the end of "It …". */
const abilityWords: Record<Schemas["Ability"], string> = {
  switches: "makes and drops switches",
  addresses: "sees addresses of guests",
  console: "keeps what serial ports say",
  display: "shows screens",
  pause: "pauses",
  suspend: "suspends",
  "boot-once": "starts once from another device",
  live: "changes machines while they run",
  freeze: "freezes disks at one instant while machines run",
  lasting: "goes on without its agent",
};

export const hypervisorWords = (can: Schemas["Ability"][]) => can.map((a) => abilityWords[a] ?? a).join(" · ");
