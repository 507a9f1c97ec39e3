import { expect, test } from "vitest";
import { answerOf, answerWith, keyOf, leftOf, shared, subjectsOf, suggestedFor } from "./answers";
import type { Finding, Plan } from "./api";

const finding = (f: Partial<Finding>) =>
  ({ code: "network.unmapped", subject: "NIC 1", severity: "choice", remedies: [], detail: {}, ...f }) as Finding;

test("an answer is filed under its finding, and a value keeps its colons", () => {
  expect(keyOf(finding({}))).toBe("network.unmapped/NIC 1");
  expect(answerWith("switch", "lab")).toBe("switch:lab");
  expect(answerWith("unplugged", "")).toBe("unplugged");
  expect(answerOf(finding({ answer: "switch:lab" }))).toEqual({ remedy: "switch", value: "lab" });
  expect(answerOf(finding({ answer: "switch:lab" }), "mac:06:5c:00:aa")).toEqual({
    remedy: "mac",
    value: "06:5c:00:aa",
  });
  expect(answerOf(finding({}))).toEqual({ remedy: "", value: "" });
});

test("what is suggested belongs to its remedy", () => {
  const f = finding({
    remedies: [
      { id: "switch", label: "Connect it to a switch", value: "lab", recommended: true, explicit: false, takes: null },
      { id: "unplugged", label: "Leave it unplugged", value: "", recommended: false, explicit: false, takes: null },
    ],
  });
  expect(suggestedFor(f, "switch")).toBe("lab");
  expect(suggestedFor(f, "unplugged")).toBe("");
  expect(suggestedFor(f, "none")).toBe("");
});

test("what is left is told: first what blocks, then what is to be decided", () => {
  const plan = (...findings: Finding[]) => ({ findings }) as Plan;
  expect(leftOf()).toBe("");
  expect(leftOf(plan())).toBe("");
  expect(leftOf(plan(finding({ severity: "note" })))).toBe("");
  expect(leftOf(plan(finding({})))).toBe("1 decision left");
  expect(leftOf(plan(finding({ answer: "unplugged" }), finding({})))).toBe("1 decision left");
  expect(leftOf(plan(finding({ severity: "blocker" }), finding({}), finding({ severity: "blocker" })))).toBe(
    "2 findings in the way",
  );
});

test("what is the same of several machines is told once", () => {
  const of = (subject: string, more: Partial<Finding> = {}) =>
    finding({ subject, message: "It lands in reef.", ...more });
  const groups = shared([of("a"), of("b", { message: "It lands in kelp." }), of("c"), of("d"), of("e")]);
  expect(groups.map((g) => g.map((f) => f.subject))).toEqual([["a", "c", "d", "e"], ["b"]]);
  expect(groups.map(subjectsOf)).toEqual(["a, c, d and 1 more", "b"]);
  expect(shared([of("a", { answer: "x" }), of("b")])).toHaveLength(2);
});
