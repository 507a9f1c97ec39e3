import { newKey } from "../secure";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { makePlan, startJob } from "../api";
import { keyOf } from "../answers";
import type { Finding, Job, Asking } from "../api";

/** Whether switches that are chosen on the way can become rules of wiring. */
const wires = (request: Asking) => ["import", "register", "clone", "move"].includes(request.operation);

const busyAgain = 1000; // ms after which a plan that waits for another job is made anew

/**
 * Works a request out, again after every answer. Recommendations are taken
 * unless something else is chosen; the sheet shows them as chosen already.
 */
export function usePlan(request: Asking | undefined, onStarted: (job: Job) => void) {
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const [keepWiring, setKeepWiring] = useState(false);
  const [together, setTogether] = useState(false);
  const [later, setLater] = useState("");
  const key = useRef(newKey());
  const full = useMemo(
    () =>
      request
        ? {
            ...request,
            ...(wires(request) && { keepWiring }),
            ...(together && { allOrNothing: true }),
            answers: { ...request.answers, ...answers },
            takeRecommended: true,
          }
        : undefined,
    [request, answers, keepWiring, together],
  );
  const plan = useQuery({
    queryKey: ["plan", full],
    queryFn: () => makePlan(full!),
    enabled: full !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    // What another job keeps from being done can be done once that is over.
    refetchInterval: (q) => (q.state.data?.findings.some((f) => f.code === "busy.job") ? busyAgain : false),
  });
  const run = useMutation({
    mutationFn: () => startJob(later ? { ...full!, startAt: new Date(later).toISOString() } : full!, key.current),
    onSuccess: onStarted,
  });
  /** What the sheet shows of it. */
  const sheet = {
    plan: request && plan.data,
    problem: run.error ?? plan.error,
    busy: !request || run.isPending || run.isSuccess || plan.isFetching,
    answers,
    onAnswer: (f: Finding, a: string) => setAnswers((old) => ({ ...old, [keyOf(f)]: a })),
    keep: request && wires(request) ? { on: keepWiring, set: setKeepWiring } : undefined,
    together: { on: together, set: setTogether },
    later: { at: later, set: setLater },
    onRun: () => run.mutate(),
  };
  return { sheet, plan: plan.data };
}
