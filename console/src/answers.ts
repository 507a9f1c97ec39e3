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

/** Findings that say the same of several machines, together: they are shown, and answered, once. */
export function shared(findings: Finding[]): [Finding, ...Finding[]][] {
  const groups = new Map<string, [Finding, ...Finding[]]>();
  for (const f of findings) {
    const said = JSON.stringify([f.code, f.message, f.remedies, f.answer]);
    const group = groups.get(said);
    if (group) group.push(f);
    else groups.set(said, [f]);
  }
  return [...groups.values()];
}

const named = 3; // of several machines that share a finding

/** What findings are about that say the same. */
export function subjectsOf(same: Finding[]) {
  const names = same.slice(0, named).map((f) => f.subject);
  const more = same.length - named;
  return names.join(", ") + (more > 0 ? ` and ${more} more` : "");
}

/** What still keeps a plan from running. */
export function leftOf(plan?: Plan): string {
  if (!plan) return "";
  const blocked = plan.findings.filter((f) => f.severity === "blocker" && !f.answer).length;
  const open = plan.findings.filter((f) => f.severity === "choice" && !f.answer).length;
  if (blocked > 0) return `${count(blocked, "finding")} in the way`;
  return open > 0 ? `${count(open, "decision")} left` : "";
}
