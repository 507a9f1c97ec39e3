import type { Finding, Plan } from "./api";
import { count } from "./format";

/** What an answer to a finding is filed under. */
export const keyOf = (f: Finding) => `${f.code}/${f.subject}`;

/** An answer as a request has it: REMEDY, or REMEDY:VALUE. */
export const answerWith = (remedy: string, value: string) => (value ? `${remedy}:${value}` : remedy);

/** The answer to a finding: what was chosen just now, or what the plan took. A value may have colons of its own. */
export function answerOf(f: Finding, chosen?: string) {
  const [remedy = "", ...value] = (chosen ?? f.answer ?? "").split(":");
  return { remedy, value: value.join(":") };
}

/** The value that the plan suggests for a remedy. */
export const suggestedFor = (f: Finding, remedy: string) => f.remedies.find((r) => r.id === remedy)?.value ?? "";

/** What still keeps a plan from running. */
export function leftOf(plan?: Plan): string {
  if (!plan) return "";
  const blocked = plan.findings.filter((f) => f.severity === "blocker" && !f.answer).length;
  const open = plan.findings.filter((f) => f.severity === "choice" && !f.answer).length;
  if (blocked > 0) return `${count(blocked, "finding")} in the way`;
  return open > 0 ? `${count(open, "decision")} left` : "";
}
