import { expect, test } from "vitest";
import { completions } from "./filter";

test("a term begins with a field, each once", () => {
  expect(completions("", [])).toContain("host=");
  expect(completions("ho", [])).toEqual(["host="]);
  expect(completions("host=gannet s", [])).toEqual(["host=gannet state="]);
  expect(completions("host=gannet ", [])).not.toContain("host=gannet host=");
});

test("values are those that there are", () => {
  expect(completions("host=ga", ["gannet", "petrel"])).toEqual(["host=gannet"]);
  expect(completions("name~tide* form=s", [])).toEqual(["name~tide* form=stray"]);
  expect(completions("form=stray", [])).toEqual([]);
  expect(completions("owner=x", [])).toEqual([]);
});
