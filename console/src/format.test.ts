import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Copy } from "./api";
import { ago, count, duration, identityWords, lastPart, madeWords, place, serialText, size } from "./format";

beforeEach(() => vi.useFakeTimers({ now: Date.parse("2026-11-03T12:00:00Z") }));
afterEach(() => vi.useRealTimers());

const copy = (c: Partial<Copy>) =>
  ({
    name: "tide-gauge",
    host: "gannet",
    pool: "reef",
    path: "/reef/tide-gauge",
    shelf: "",
    form: "registered",
    ...c,
  }) as Copy;

test.each([
  [0, "0 B"],
  [1023, "1023 B"],
  [1024, "1 KiB"],
  [1536, "1.5 KiB"],
  [102.4 * 1024, "102 KiB"],
  [5 * 1024 ** 4, "5 TiB"],
  [3000 * 1024 ** 5, "3000 PiB"],
])("%d bytes are %s", (bytes, says) => expect(size(bytes)).toBe(says));

test.each([
  ["2026-11-03T11:59:57Z", "just now"],
  ["2026-11-03T11:59:01Z", "59 s ago"],
  ["2026-11-03T11:58:59Z", "1 min ago"],
  ["2026-11-03T10:59:00Z", "1 h ago"],
  ["2026-10-01T12:00:00Z", "1 Oct 2026"],
  [null, "never"],
])("%s was %s", (time, says) => expect(ago(time)).toBe(says));

test.each([
  [59, "59 s"],
  [61, "1 min 1 s"],
  [3600, "1 h 0 min"],
  [9000, "2 h 30 min"],
])("%d seconds are %s", (seconds, says) => expect(duration(seconds)).toBe(says));

test("numbers and nouns agree", () => {
  expect(count(0, "host")).toBe("0 hosts");
  expect(count(1, "host")).toBe("1 host");
  expect(count(12345, "copy", "copies")).toBe("12,345 copies");
});

test("a copy's place is told as people name it", () => {
  expect(place(copy({}))).toBe("gannet/tide-gauge");
  expect(place(copy({ form: "stray" }))).toBe("gannet: reef/tide-gauge");
  expect(place(copy({ form: "package", shelf: "loft", path: "/loft/tide-gauge.ova" }))).toBe("loft/tide-gauge.ova");
  expect(place(copy({ form: "package", path: "/reef/tide-gauge.ova" }))).toBe("reef/tide-gauge.ova");
  expect(place(copy({ form: "package", pool: "", path: "/home/robin/tide-gauge.ova" }))).toBe(
    "/home/robin/tide-gauge.ova",
  );
  expect(lastPart("tide-gauge.ova")).toBe("tide-gauge.ova");
});

test("what became of an identity, and how a copy came to be", () => {
  expect(identityWords(copy({ identity: "renew", renewed: ["uuid", "mac"] }))).toBe("renewed: uuid, mac");
  expect(identityWords(copy({ identity: "keep" }))).toBe("kept");
  expect(identityWords(copy({ identity: "original" }))).toBe("its own");
  expect(madeWords(copy({ madeBy: "import" }))).toBe("imported");
  expect(madeWords(copy({ madeBy: "survey", parent: "x" }))).toBe("copied by hand");
  expect(madeWords(copy({ madeBy: "survey", parent: "x", host: "dunlin@mainland" }))).toBe("found");
  expect(madeWords(copy({ madeBy: "survey" }))).toBe("found");
});

test("what a machine says on its serial port is text and nothing else", () => {
  const said = "\x1b[2J\x1b[01;01HFerry to Quay\r\n\x1b]0;title\x07\tat 18:20\n\u202eturned\x00";
  const base64 = btoa(String.fromCharCode(...new TextEncoder().encode(said)));
  expect(serialText(base64)).toBe("Ferry to Quay\n\tat 18:20\nturned");
});
