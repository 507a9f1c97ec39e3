import { useMemo } from "react";
import type { Request_ } from "../api";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

const becomes: Record<string, string> = {
  start: "running",
  stop: "stopped",
  renew: "with ids of its own",
  delist: "off its host’s list",
  detach: "without it; its file stays",
  "put-back": "the manager that it came from",
  "switch-drop": "without this switch",
};

type Props = { title: string; request: Request_; onClose: () => void };

/** The sheet of an operation that needs nothing but answers. */
export function OperationSheet({ title, request, onClose }: Props) {
  const text = JSON.stringify(request);
  const fixed = useMemo(() => JSON.parse(text) as Request_, [text]);
  const p = usePlan(fixed, onClose);
  return (
    <PlanSheet
      title={title}
      from={<span className="font-semibold">{p.plan?.subjects.join(", ")}</span>}
      to={<span>{becomes[request.operation]}</span>}
      plan={p.plan}
      problem={p.problem}
      busy={p.busy}
      does={title}
      answers={p.answers}
      onAnswer={p.answer}
      onRun={p.run}
      onClose={onClose}
    />
  );
}
