import { expect, test } from "vitest";
import { keysym, typed } from "./keys";

const press = (key: string, more = {}) => typed({ key, ctrlKey: false, altKey: false, metaKey: false, ...more });

test("keys are typed as a terminal sends them", () => {
  expect(press("a")).toBe("a");
  expect(press("é")).toBe("é");
  expect(press("Enter")).toBe("\r");
  expect(press("Backspace")).toBe("\x7f");
  expect(press("ArrowUp")).toBe("\x1b[A");
  expect(press("c", { ctrlKey: true })).toBe("\x03");
  expect(press("[", { ctrlKey: true })).toBe("\x1b");
  expect(press("x", { altKey: true })).toBe("\x1bx");
});

test("what is the browser's stays the browser's", () => {
  for (const key of ["Tab", "Shift", "Control", "F5", "Dead"]) expect(press(key)).toBe("");
  expect(press("v", { metaKey: true })).toBe("");
  expect(press("1", { ctrlKey: true })).toBe("");
});

test("characters have keysyms", () => {
  expect(keysym("a")).toBe(0x61);
  expect(keysym("ü")).toBe(0xfc);
  expect(keysym("€")).toBe(0x010020ac);
  expect(keysym("\n")).toBe(0xff0d);
});
