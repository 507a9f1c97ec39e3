import { newKey } from "../secure";
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { makePlan, startJob } from "../api";
import { keyOf } from "../answers";
import type { Finding, Job, Asking } from "../api";

/** Whether switches that are chosen on the way can become rules of wiring. */
const wires = (request: Asking) => request.operation === "import" || request.operation === "register";

/**
 * Works a request out, again after every answer. Recommendations are taken
 * unless something else is chosen; the sheet shows them as chosen already.
 */
export function usePlan(request: Asking | undefined, onStarted: (job: Job) => void) {
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const [keepWiring, setKeepWiring] = useState(false);
  const key = useRef(newKey());
  const full = useMemo(
    () =>
      request
        ? {
            ...request,
            ...(wires(request) && { keepWiring }),
            answers: { ...request.answers, ...answers },
            takeRecommended: true,
          }
        : undefined,
    [request, answers, keepWiring],
  );
  const plan = useQuery({
    queryKey: ["plan", full],
    queryFn: () => makePlan(full!),
    enabled: full !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const run = useMutation({ mutationFn: () => startJob(full!, key.current), onSuccess: onStarted });
  const answer = (f: Finding, a: string) => setAnswers((old) => ({ ...old, [keyOf(f)]: a }));
  return {
    answers,
    answer,
    keepWiring,
    setKeepWiring,
    plan: plan.data,
    problem: run.error ?? plan.error,
    busy: run.isPending || run.isSuccess || plan.isFetching,
    run: () => run.mutate(),
  };
}
