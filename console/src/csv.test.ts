import { expect, test } from "vitest";
import { csv } from "./csv";

test("cells are quoted where they have to be", () => {
  expect(
    csv([
      ["copy", "where"],
      ["tide, gauge", 'the "old" one'],
    ]),
  ).toBe('copy,where\r\n"tide, gauge","the ""old"" one"\r\n');
});

test("no name is a formula", () => {
  expect(csv([["=cmd|x", "@sum", "a-b"]])).toBe("'=cmd|x,'@sum,a-b\r\n");
});
