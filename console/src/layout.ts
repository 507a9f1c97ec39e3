import type { Copy } from "./api";

const column = 214; // from one moment to the next
export const card = { width: 160, height: 46 };
export const row = 78; // height of a card with what is said below it
export const pad = 14; // of a band
export const mostRows = 8; // of copies made at one moment on one host
export const moment = 10 * 60_000; // ms within which copies were made at one moment
const left = 120; // room for the bands' names
const top = 34; // room for the times

export type Spot = { copy: Copy; x: number; y: number };

/** What a copy stands in: its host; of a package its shelf, or its pool. */
export const bandOf = (c: Copy) =>
  c.form === "package" ? (c.shelf ? `${c.shelf} (shelf)` : c.pool ? `${c.pool} (pool)` : "files") : c.host;

export const mostAlike = 7; // copies of one kind that are drawn beside each other before the rest is folded

/**
 * Of copies that are alike, made from the same one, in the same band, and that nothing was made from, all but the
 * latest are folded into one card. more tells how many stand behind such a card, by the id of the copy that stands for
 * them.
 */
export function fold(copies: Copy[], open: string): { shown: Copy[]; more: Map<string, number> } {
  const parents = new Set(copies.map((c) => c.parent));
  const groups = new Map<string, Copy[]>();
  for (const c of copies) {
    if (parents.has(c.id) || !c.parent || c.id === open) continue;
    const key = [c.parent, bandOf(c), c.form === "package", !!c.goneAt].join("/");
    groups.set(key, [...(groups.get(key) ?? []), c]);
  }
  const hidden = new Set<string>();
  const more = new Map<string, number>();
  for (const group of groups.values()) {
    if (group.length <= mostAlike + 1) continue;
    const before = group.sort((a, b) => b.madeAt.localeCompare(a.madeAt)).slice(mostAlike);
    more.set(before[0]!.id, before.length);
    for (const c of before.slice(1)) hidden.add(c.id);
  }
  return { shown: copies.filter((c) => !hidden.has(c.id)), more };
}

/**
 * Bands in the order in which copies came to them; copies from left to right
 * over time. Those that were made at one moment on one host stand below each other.
 */
export function layOut(copies: Copy[]) {
  const bands: { name: string; rows: number; y: number }[] = [];
  const placed = new Map<string, { copy: Copy; column: number; row: number; band: number }>();
  const taken = new Map<string, number>(); // column and band → rows
  let now = -1;
  let began = 0;
  for (const copy of inOrder(copies)) {
    const name = bandOf(copy);
    let at = bands.findIndex((b) => b.name === name);
    if (at < 0) at = bands.push({ name, rows: 1, y: 0 }) - 1;
    const made = Date.parse(copy.madeAt);
    const parent = copy.parent ? placed.get(copy.parent) : undefined;
    const rows = taken.get(`${now}/${at}`) ?? 0;
    if (now < 0 || made - began > moment || (parent && parent.column >= now) || rows >= mostRows) {
      now++;
      began = made;
    }
    const in_ = taken.get(`${now}/${at}`) ?? 0;
    taken.set(`${now}/${at}`, in_ + 1);
    bands[at]!.rows = Math.max(bands[at]!.rows, in_ + 1);
    placed.set(copy.id, { copy, column: now, row: in_, band: at });
  }
  let y = top;
  for (const b of bands) {
    b.y = y;
    y += b.rows * row + pad;
  }
  const spots = new Map<string, Spot>();
  for (const [id, p] of placed) {
    spots.set(id, { copy: p.copy, x: left + p.column * column, y: bands[p.band]!.y + pad / 2 + p.row * row });
  }
  const heads = new Map<number, Spot>(); // the first of each column, for its time
  for (const s of spots.values()) if (!heads.has(s.x)) heads.set(s.x, s);
  return {
    bands,
    heads: [...heads.values()],
    spots: [...spots.values()],
    at: spots,
    width: left + (now + 1) * column,
    height: y,
  };
}

/** By time, but never a copy before the one it was made from: what was found by a survey may be older than it seems. */
function inOrder(copies: Copy[]): Copy[] {
  const known = new Set(copies.map((c) => c.id));
  const placed = new Set<string>();
  const out: Copy[] = [];
  const rest = [...copies].sort((a, b) => a.madeAt.localeCompare(b.madeAt));
  while (rest.length > 0) {
    const ready = rest.findIndex((c) => !c.parent || !known.has(c.parent) || placed.has(c.parent));
    const next = rest.splice(Math.max(0, ready), 1)[0]!;
    placed.add(next.id);
    out.push(next);
  }
  return out;
}
