import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { operationsQuery } from "../api";
import type { Asking } from "../api";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

type Props = { title?: string; request: Asking; onClose: (started: boolean) => void };

/** The sheet of an operation that needs nothing but answers. */
export function OperationSheet({ title, request, onClose }: Props) {
  const text = JSON.stringify(request);
  const fixed = useMemo(() => JSON.parse(text) as Asking, [text]);
  const operations = useQuery(operationsQuery);
  const words = operations.data?.find((o) => o.name === request.operation);
  const p = usePlan(fixed, () => onClose(true));
  const [first = "", ...more] = p.plan?.subjects ?? [];
  const subjects = more.length > 2 ? `${first} and ${more.length} more` : [first, ...more].join(", ");
  const does = title ?? `${words?.title ?? ""} ${subjects}`;
  return (
    <PlanSheet
      {...p.sheet}
      title={does}
      from={<span className="font-semibold">{subjects}</span>}
      to={<span>{words?.becomes}</span>}
      does={does}
      onClose={() => onClose(false)}
    />
  );
}
