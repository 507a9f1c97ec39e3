import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { operationsQuery } from "../api";
import type { Asking } from "../api";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

type Props = { title?: string; request: Asking; onClose: () => void };

/** The sheet of an operation that needs nothing but answers. */
export function OperationSheet({ title, request, onClose }: Props) {
  const text = JSON.stringify(request);
  const fixed = useMemo(() => JSON.parse(text) as Asking, [text]);
  const operations = useQuery(operationsQuery);
  const words = operations.data?.find((o) => o.name === request.operation);
  const p = usePlan(fixed, onClose);
  const does = title ?? `${words?.title ?? ""} ${p.plan?.subjects.join(", ") ?? ""}`;
  return (
    <PlanSheet
      title={does}
      from={<span className="font-semibold">{p.plan?.subjects.join(", ")}</span>}
      to={<span>{words?.becomes}</span>}
      plan={p.plan}
      problem={p.problem}
      busy={p.busy}
      does={does}
      answers={p.answers}
      onAnswer={p.answer}
      onRun={p.run}
      onClose={onClose}
    />
  );
}
