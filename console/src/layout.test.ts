import { expect, test } from "vitest";
import type { Copy } from "./api";
import { bandOf, fold, layOut, mostAlike, mostRows, row } from "./layout";

const noon = Date.parse("2026-11-03T12:00:00Z");
const at = (minutes: number) => new Date(noon + minutes * 60_000).toISOString();
const copy = (id: string, minutes: number, c: Partial<Copy> = {}) =>
  ({ id, madeAt: at(minutes), host: "gannet", form: "registered", shelf: "", ...c }) as Copy;

test("hosts, shelves and files are bands of their own, in the order in which copies came to them", () => {
  const { bands } = layOut([
    copy("b", 30, { form: "package", shelf: "loft" }),
    copy("a", 0),
    copy("c", 60, { host: "petrel" }),
    copy("d", 90, { form: "package" }),
  ]);
  expect(bands.map((b) => b.name)).toEqual(["gannet", "loft (shelf)", "petrel", "files"]);
  expect(bands.map((b) => b.y)).toEqual([...bands.map((b) => b.y)].sort((a, b) => a - b));
  expect(bandOf(copy("x", 0, { form: "package", shelf: "loft" }))).toBe("loft (shelf)");
  expect(bandOf(copy("x", 0, { form: "package", pool: "harbour" }))).toBe("harbour (pool)");
});

test("time goes from left to right, and no copy stands before the one it was made from", () => {
  const { at: spots } = layOut([copy("child", 0, { parent: "origin" }), copy("origin", 20), copy("late", 60)]);
  expect(spots.get("origin")!.x).toBeLessThan(spots.get("child")!.x);
  expect(spots.get("child")!.x).toBeLessThan(spots.get("late")!.x);
});

test("what was made at one moment on one host stands below each other, up to a number", () => {
  const many = Array.from({ length: mostRows + 1 }, (_, n) => copy(`c${n}`, 0));
  const { at: spots, bands } = layOut(many);
  expect(spots.get("c1")!.x).toBe(spots.get("c0")!.x);
  expect(spots.get("c1")!.y - spots.get("c0")!.y).toBe(row);
  expect(spots.get(`c${mostRows}`)!.x).toBeGreaterThan(spots.get("c0")!.x);
  expect(bands[0]!.rows).toBe(mostRows);
});

test("a parent that is not here, or a ring of parents, is no obstacle", () => {
  const { spots, heads, width, height } = layOut([
    copy("a", 0, { parent: "gone" }),
    copy("b", 0, { parent: "c" }),
    copy("c", 0, { parent: "b" }),
  ]);
  expect(spots).toHaveLength(3);
  expect(heads.length).toBeGreaterThan(0);
  for (const s of spots) {
    expect(s.x).toBeLessThan(width);
    expect(s.y).toBeLessThan(height);
  }
  expect(layOut([]).spots).toEqual([]);
});

test("of many copies that are alike the latest are drawn, and one card for the rest", () => {
  const origin = copy("origin", 0);
  const clones = Array.from({ length: 30 }, (_, n) => copy(`c${n}`, n + 1, { parent: "origin" }));
  const child = copy("child", 60, { parent: "c0" });
  const { shown, more } = fold([origin, ...clones, child], "c5");
  expect(shown.map((c) => c.id)).toContain("c0"); // something was made from it
  expect(shown.map((c) => c.id)).toContain("c5"); // it is open
  expect(shown.map((c) => c.id)).toContain("c29");
  expect([...more]).toEqual([["c22", 30 - 2 - mostAlike]]);
  expect(shown).toHaveLength(2 + 2 + mostAlike + 1);
  const few = [origin, ...clones.slice(0, mostAlike + 1)];
  expect(fold(few, "").shown).toHaveLength(few.length);
});
