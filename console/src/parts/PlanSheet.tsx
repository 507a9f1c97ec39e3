import { Dialog, DialogPanel, DialogTitle, Radio, RadioGroup } from "@headlessui/react";
import type { ReactNode } from "react";
import type { Finding, Plan } from "../api";
import { answerOf, answerWith, keyOf, leftOf, shared, subjectsOf, suggestedFor } from "../answers";
import { duration, size } from "../format";
import { Changes } from "./Changes";
import { Told } from "./Told";

type Props = {
  title: string;
  from: ReactNode;
  to: ReactNode;
  plan?: Plan;
  problem: unknown;
  busy: boolean;
  does: string; // what the button does, in full
  answers: Record<string, string>;
  onAnswer: (finding: Finding, answer: string) => void;
  keep?: { on: boolean; set: (on: boolean) => void }; // chosen switches as rules of wiring
  together?: { on: boolean; set: (on: boolean) => void }; // several machines in one job: all, or none
  later?: { at: string; set: (at: string) => void }; // when it begins, as the browser writes it; "" for now
  onRun: () => void;
  onClose: () => void;
};

const edge = { blocker: "border-wreck", choice: "border-buoy", note: "border-rule" };
const ink = { blocker: "text-wreck", choice: "text-buoy", note: "text-soft" };
const focused = "rounded-sm px-1 data-focus:outline-2 data-focus:outline-sea";
const ring = "border-soft group-data-checked:border-sea";
const word = { blocker: "✕ blocked", choice: "? to decide", note: "· note" };

/** The sheet that every operation opens: what will be found, decided and done. */
export function PlanSheet(p: Props) {
  const steps = p.plan?.steps ?? [];
  const noReturn = 1 + steps.findIndex((s) => s.id === p.plan?.pointOfNoReturn);
  return (
    <Dialog open onClose={p.onClose} className="relative z-30">
      <div className="fixed inset-0 grid place-items-center bg-[#00000073] p-6">
        <DialogPanel className="flex max-h-[94vh] w-[70rem] max-w-full flex-col border border-rule bg-paper">
          <header className="border-b border-rule bg-sheet px-6 py-3">
            <DialogTitle className="text-[18px] font-semibold">{p.title}</DialogTitle>
            <div className="mt-2 flex items-center gap-4">
              <div className="min-w-0 shrink">{p.from}</div>
              <span aria-hidden className="text-[18px] text-sea">
                →
              </span>
              <div className="min-w-0 grow basis-0">{p.to}</div>
            </div>
          </header>
          <div className="grid min-h-48 grow grid-cols-[1fr_22rem] overflow-auto">
            <section className="px-6 py-4" aria-label="Findings">
              <Told problem={p.problem} />
              {p.plan?.findings.length === 0 && <p className="text-soft">Nothing stands in the way.</p>}
              {shared(p.plan?.findings ?? []).map((same) => (
                <FindingRow
                  key={keyOf(same[0])}
                  finding={same[0]}
                  subject={subjectsOf(same)}
                  chosen={p.answers[keyOf(same[0])]}
                  onAnswer={(a) => same.forEach((f) => p.onAnswer(f, a))}
                />
              ))}
              <Changes changes={p.plan?.changes ?? []} />
            </section>
            <section className="border-l border-rule bg-sheet px-5 py-4" aria-label="What will be done">
              <h3 className="mb-2 font-semibold">What will be done</h3>
              <ol className="grid gap-2 [overflow-wrap:anywhere]">
                {steps.map((s, n) => (
                  <li key={s.id} className="grid grid-cols-[1.4rem_1fr]">
                    <span className="mono text-soft">{n + 1}</span>
                    <span className="min-w-0">
                      {s.what}
                      {s.bytes > 0 && <span className="mono ml-2 text-soft">{size(s.bytes)}</span>}
                    </span>
                  </li>
                ))}
              </ol>
              {p.plan && p.plan.bytes > 0 && (
                <p className="mt-3 border-t border-rule pt-2 text-soft">
                  {size(p.plan.bytes)} to read, about {duration(p.plan.seconds)}.
                </p>
              )}
              {p.plan && p.plan.jobs > 1 && (
                <p className="mt-2 text-soft">
                  {p.plan.jobs} jobs, one for each machine: what one can’t do stops no other.
                </p>
              )}
              {p.plan && p.plan.jobs === 1 && steps.length > 0 && (
                <p className="mt-2 text-soft">
                  Until {noReturn > 0 ? `step ${noReturn} is done` : "the end"}, cancelling undoes everything.
                </p>
              )}
            </section>
          </div>
          <footer className="flex items-center gap-4 border-t border-rule bg-sheet px-6 py-3">
            <button className="button" onClick={p.onClose}>
              Close
            </button>
            {p.keep &&
              p.plan?.findings.some((f) => f.code.startsWith("network.") && f.answer?.startsWith("switch")) && (
                <label className="flex items-center gap-2">
                  <input type="checkbox" checked={p.keep.on} onChange={(e) => p.keep!.set(e.target.checked)} />
                  keep the chosen switch as a rule
                </label>
              )}
            {p.together && (p.together.on || (p.plan?.jobs ?? 1) > 1) && (
              <label className="flex items-center gap-2">
                <input type="checkbox" checked={p.together.on} onChange={(e) => p.together!.set(e.target.checked)} />
                all, or none
              </label>
            )}
            {p.later && (
              <label className="flex items-center gap-2 text-soft">
                begin at
                <input
                  type="datetime-local"
                  aria-label="Begin at"
                  className="field"
                  value={p.later.at}
                  onChange={(e) => p.later!.set(e.target.value)}
                />
              </label>
            )}
            <span className="ml-auto text-soft">{leftOf(p.plan)}</span>
            <button className="button-main" disabled={!p.plan?.runnable || p.busy} onClick={p.onRun}>
              {p.does}
            </button>
          </footer>
        </DialogPanel>
      </div>
    </Dialog>
  );
}

function FindingRow({
  finding: f,
  subject,
  chosen,
  onAnswer,
}: {
  finding: Finding;
  subject: string;
  chosen?: string;
  onAnswer: (answer: string) => void;
}) {
  const { remedy: value, value: given } = answerOf(f, chosen);
  const suggested = (id: string) => suggestedFor(f, id);
  const switches = Array.isArray(f.detail.switches) ? (f.detail.switches as string[]) : [];
  return (
    <article className={`mb-3 border-l-4 bg-sheet px-3 py-2 ${edge[f.severity]}`}>
      <h4 className="flex items-baseline gap-3">
        <span className={`font-semibold ${ink[f.severity]}`}>{word[f.severity]}</span>
        <span className="font-semibold">{subject}</span>
        <span className="mono ml-auto text-soft">{f.code}</span>
      </h4>
      <p className="mt-0.5">{f.message}</p>
      {f.severity !== "note" && f.remedies.length > 0 && (
        <RadioGroup
          value={value}
          onChange={(id: string) => onAnswer(answerWith(id, suggested(id)))}
          className="mt-1.5 grid gap-1"
          aria-label={f.message}
        >
          {f.remedies.map((r) => (
            <div key={r.id} className="flex items-center gap-2">
              <Radio value={r.id} className={`group flex cursor-pointer items-center gap-2 ${focused}`}>
                <span className={`grid size-4 place-items-center rounded-full border ${ring}`}>
                  <span className="size-2 rounded-full group-data-checked:bg-sea" />
                </span>
                <span className={r.explicit ? "text-wreck" : ""}>{r.label}</span>
                {r.recommended && <span className="text-beacon">recommended</span>}
                {r.explicit && <span className="text-wreck">never taken by itself</span>}
              </Radio>
              {value === r.id && r.takes === "switch" && switches.length > 0 && (
                <select
                  aria-label="Switch"
                  className="field"
                  value={given}
                  onChange={(e) => onAnswer(`${r.id}:${e.target.value}`)}
                >
                  <option value="">choose …</option>
                  {switches.map((s) => (
                    <option key={s}>{s}</option>
                  ))}
                </select>
              )}
              {value === r.id && r.takes && !(r.takes === "switch" && switches.length > 0) && (
                <input
                  aria-label={r.takes}
                  className="field"
                  defaultValue={given || suggested(r.id)}
                  onBlur={(e) => onAnswer(`${r.id}:${e.target.value}`)}
                />
              )}
            </div>
          ))}
        </RadioGroup>
      )}
    </article>
  );
}
