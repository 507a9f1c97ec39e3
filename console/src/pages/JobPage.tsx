import { useMutation, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { jobPlanQuery, jobQuery, jobRequest } from "../api";
import type { Asking, Job, Plan } from "../api";
import { keyOf, shared, subjectsOf } from "../answers";
import { ago, exact } from "../format";
import { Head } from "../parts/Head";
import { Changes } from "../parts/Changes";
import { Id } from "../parts/Id";
import { Children, JobControls, Progress, Rate, Steps, counted, over } from "../parts/JobRow";
import { RatePlot } from "../parts/RatePlot";
import type { Rates } from "../parts/RatePlot";
import { State } from "../parts/State";
import { Told } from "../parts/Told";
import { useRates } from "../parts/useRates";
import { OperationSheet } from "./OperationSheet";

/** A job in full: what it does, how far it is, what was decided, and how long each step took. */
export function JobPage() {
  const { id = "" } = useParams();
  const { data: j, error } = useQuery(jobQuery(id));
  const plan = useQuery(jobPlanQuery(id));
  return (
    <>
      <Head
        title={j?.title ?? "…"}
        under={{ to: "/jobs", name: "Jobs" }}
        says={
          j && (
            <>
              <State is={j.state} /> {j.childStates && counted(j.childStates)}
            </>
          )
        }
      >
        {j && <JobControls job={j} />}
        {j && over(j) && <Again job={j} />}
      </Head>
      <Told problem={error} />
      {j && <Facts job={j} />}
      {j?.error && (
        <p className="mt-2 text-wreck">
          {j.error.message}
          {j.retryAt && <span title={exact(j.retryAt)}> It is tried again by itself.</span>}
        </p>
      )}
      {j && !over(j) && <Progress job={j} />}
      {j && <Speed key={j.id} job={j} />}
      {j && (
        <section className="mt-4" aria-label="Steps">
          <h2 className="mb-1 text-[16px] font-semibold">{j.childStates ? "Its jobs" : "Steps"}</h2>
          {j.childStates ? <Children of={j.id} /> : <Steps steps={j.steps} />}
        </section>
      )}
      {plan.data && <PlanWas plan={plan.data} done={j?.state === "done"} />}
    </>
  );
}

/** Asks for the same once more: its plan is made anew, with the answers that were given. */
function Again({ job: j }: { job: Job }) {
  const navigate = useNavigate();
  const ask = useMutation({ mutationFn: () => jobRequest(j.id) });
  return (
    <>
      <button className="button" disabled={ask.isPending} onClick={() => ask.mutate()}>
        Again …
      </button>
      <Told problem={ask.error} />
      {ask.data && (
        <OperationSheet
          title={j.title}
          request={ask.data as Asking}
          onClose={(started) => {
            ask.reset();
            if (started) void navigate("/jobs");
          }}
        />
      )}
    </>
  );
}

function Facts({ job: j }: { job: Job }) {
  const current = j.steps.find((s) => s.state === "working");
  return (
    <ul className="flex flex-wrap gap-x-6 gap-y-1 text-soft">
      <li title={exact(j.createdAt)}>
        by {j.user}, {ago(j.createdAt)}
      </li>
      {j.note && <li>“{j.note}”</li>}
      {j.startAt && j.state === "waiting" && <li>begins at {exact(j.startAt)}</li>}
      {j.finishedAt && <li title={exact(j.finishedAt)}>ended {ago(j.finishedAt)}</li>}
      {j.downSeconds != null && <li>its machine stood for {j.downSeconds.toFixed(1)} s</li>}
      {j.waitsFor && <li>it waits: {j.waitsFor}</li>}
      {j.parent && (
        <li>
          of a job over{" "}
          <Link className="text-sea" to={`/jobs/${j.parent}`}>
            several machines
          </Link>
        </li>
      )}
      <li>
        job <Id value={j.id} />
      </li>
      {current && current.bytes > 0 && (
        <li>
          <Rate job={j} />
        </li>
      )}
    </ul>
  );
}

/** The rates of steps that are over, as each went on the whole. */
function ofSteps(steps: Job["steps"]): Rates {
  const rates: Rates = { at: [], rate: [] };
  for (const s of steps) {
    if (!s.startedAt || !s.finishedAt || s.done === 0) continue;
    const [from, to] = [Date.parse(s.startedAt) / 1000, Date.parse(s.finishedAt) / 1000];
    if (to - from < 0.01) continue;
    rates.at.push(from, to);
    rates.rate.push(s.done / (to - from), 0);
  }
  return rates;
}

const kept = 600; // rates of a job that is watched

/** How fast a job went, by its steps; while it is watched, second by second. */
function Speed({ job: j }: { job: Job }) {
  const watched = useRates(j.bytesPerSecond, kept, j.state === "working" && j.total > 0);
  const steps = useMemo(() => ofSteps(j.steps), [j.steps]);
  const rates = useMemo(
    () => (watched.length > 1 ? { at: watched.map((w) => w.at), rate: watched.map((w) => w.rate) } : steps),
    [watched, steps],
  );
  if (rates.at.length < 2) return null;
  return (
    <section className="mt-4" aria-label="Rate over time">
      <h2 className="mb-1 text-[16px] font-semibold">Rate over time</h2>
      <RatePlot rates={rates} />
    </section>
  );
}

/** The plan that the job carries out, as it was, with what was answered. */
function PlanWas({ plan, done }: { plan: Plan; done: boolean }) {
  return (
    <section className="mt-5" aria-label="Plan">
      <h2 className="mb-1 text-[16px] font-semibold">The plan, as it was</h2>
      {plan.findings.length === 0 && plan.changes.length === 0 && (
        <p className="text-soft">Nothing stood in the way, and nothing had to be decided.</p>
      )}
      <ul className="grid gap-1.5">
        {shared(plan.findings).map((same) => {
          const f = same[0];
          const remedy = f.remedies.find((r) => r.id === f.answer?.split(":")[0]);
          return (
            <li key={keyOf(f)} className="border-l-4 border-rule bg-sheet px-3 py-1">
              <span className="font-semibold">{subjectsOf(same)}</span> {f.message}
              {f.answer && <span className="block text-beacon">→ {remedy?.label ?? f.answer}</span>}
            </li>
          );
        })}
      </ul>
      <Changes changes={plan.changes} was />
      {plan.back && done && (
        <p className="mt-2">
          <span className="text-soft">What takes it back: </span>
          <Id words value={plan.back} />
        </p>
      )}
    </section>
  );
}
