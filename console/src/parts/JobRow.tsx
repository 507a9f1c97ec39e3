import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { cancelJob, childrenQuery, copyQuery, cutOver, holdJob, resumeFailed, resumeJob, setRate } from "../api";
import type { Job } from "../api";
import { ago, count, duration, exact, size } from "../format";
import { State } from "./State";
import { Told } from "./Told";
import { useRates } from "./useRates";

/** Whether a job is over. */
export const over = (j: Job) => ["done", "partly", "failed", "cancelled"].includes(j.state);

/** How far a job over several machines is. */
export function counted(states: Record<string, number>) {
  const all = Object.values(states).reduce((sum, n) => sum + n, 0);
  const others = ["working", "waiting", "held", "failed", "cancelled"].filter((s) => states[s]);
  return [`${states.done ?? 0} of ${all} done`, ...others.map((s) => `${states[s]} ${s}`)].join(", ");
}

/** How long a step took. */
export function took(s: Job["steps"][number]) {
  if (!s.startedAt || !s.finishedAt) return "";
  return `${((Date.parse(s.finishedAt) - Date.parse(s.startedAt)) / 1000).toFixed(1)} s`;
}

/** Whether a job rests until it may cut over. */
const awaits = (j: Job) => j.steps.some((s) => s.kind === "await" && s.state === "working");

function CutOver({ job, children }: { job: string; children: string }) {
  const ask = useMutation({ mutationFn: () => cutOver(job) });
  return (
    <>
      <button className="button-main" disabled={ask.isPending} onClick={() => ask.mutate()}>
        {children}
      </button>
      <Told problem={ask.error} />
    </>
  );
}

/** What can be done with a job. */
export function JobControls({ job: j }: { job: Job }) {
  const cancel = useMutation({ mutationFn: () => cancelJob(j.id) });
  const halt = useMutation({ mutationFn: () => (j.state === "held" ? resumeJob(j.id) : holdJob(j.id)) });
  const again = useMutation({ mutationFn: () => resumeFailed(j.id) });
  const failed = j.childStates?.failed ?? 0;
  return (
    <>
      {failed > 0 && (
        <button className="button" disabled={again.isPending} onClick={() => again.mutate()}>
          Go on with what failed
        </button>
      )}
      {j.state === "done" && j.newCopy && <Made copy={j.newCopy} />}
      {!over(j) && !j.cancelling && awaits(j) && <CutOver job={j.id}>Cut over now</CutOver>}
      {!over(j) && !j.cancelling && (
        <button className="button" disabled={halt.isPending} onClick={() => halt.mutate()}>
          {j.state === "held" ? "Resume" : "Hold"}
        </button>
      )}
      {!over(j) && (
        <button className="button" disabled={j.cancelling || cancel.isPending} onClick={() => cancel.mutate()}>
          {j.cancelling ? "Being undone …" : "Cancel"}
        </button>
      )}
      <Told problem={cancel.error ?? halt.error ?? again.error} />
    </>
  );
}

/** How far a job is, and how fast it goes. */
export function Progress({ job: j }: { job: Job }) {
  const percent = j.total > 0 ? Math.min(100, Math.round((100 * j.done) / j.total)) : over(j) ? 100 : 0;
  return (
    <div className="mt-1.5 grid grid-cols-[1fr_9rem_22rem] items-center gap-4">
      <span
        className="h-2 bg-chart"
        role="progressbar"
        aria-valuenow={percent}
        aria-valuemin={0}
        aria-valuemax={100}
        aria-label="Progress"
      >
        <span className="block h-full bg-sea" style={{ width: `${percent}%` }} />
      </span>
      <Throughput rate={j.bytesPerSecond} />
      <span className="mono text-soft">
        {percent} % · {size(j.done)} of {size(j.total)}
        {j.bytesPerSecond > 0 && ` · ${size(j.bytesPerSecond)}/s`}
        {j.secondsLeft != null && ` · ${duration(j.secondsLeft)} left`}
      </span>
    </div>
  );
}

/** A job in a list; its steps, or the jobs it has for several machines, unfold. */
export function JobRow({ job: j, child }: { job: Job; child?: boolean }) {
  const [open, setOpen] = useState(false);
  const current = j.steps.find((s) => s.state === "working");
  return (
    <article
      className={child ? "border-t border-rule py-1.5" : "border border-rule bg-sheet px-4 py-2"}
      aria-label={j.title}
    >
      <div className="flex items-baseline gap-3">
        <Link to={`/jobs/${j.id}`} className={child ? "hover:text-sea" : "font-semibold hover:text-sea"}>
          {child ? j.subject : j.title}
        </Link>
        <State is={j.state} />
        {j.childStates && <span className="text-soft">{counted(j.childStates)}</span>}
        <span className="ml-auto text-soft" title={exact(j.createdAt)}>
          {!child && `${j.user}, ${ago(j.createdAt)}`}
        </span>
        <JobControls job={j} />
      </div>
      {!over(j) && !(child && j.state === "waiting") && <Progress job={j} />}
      {current && (
        <p className="mt-1 flex items-baseline gap-3 text-soft">
          {current.what}
          {current.bytes > 0 && <Rate job={j} />}
        </p>
      )}
      {j.waitsFor && <p className="mt-1 text-soft">It waits: {j.waitsFor}.</p>}
      {j.startAt && j.state === "waiting" && <p className="mt-1 text-soft">It begins at {exact(j.startAt)}.</p>}
      {j.downSeconds != null && <p className="mt-1 text-soft">Its machine stood for {j.downSeconds.toFixed(1)} s.</p>}
      <details className="mt-1" onToggle={(e) => setOpen(e.currentTarget.open)}>
        <summary className="cursor-pointer text-soft">
          {j.childStates
            ? count(
                Object.values(j.childStates).reduce((a, b) => a + b, 0),
                "job",
              )
            : count(j.steps.length, "step")}
        </summary>
        {j.childStates ? open && <Children of={j.id} /> : <Steps steps={j.steps} />}
      </details>
      {j.error && (
        <p className="mt-1 text-wreck">
          {j.error.message}
          {j.retryAt && <span title={exact(j.retryAt)}> It is tried again by itself.</span>}
        </p>
      )}
    </article>
  );
}

const mib = 1 << 20;

/** How fast a job's transfers may be, in MiB a second; empty for as fast as it goes. */
export function Rate({ job: j }: { job: Job }) {
  const put = useMutation({ mutationFn: (rate: number) => setRate(j.id, rate) });
  const now = j.rate ? String(Math.round((100 * j.rate) / mib) / 100) : "";
  return (
    <label className="ml-auto flex items-baseline gap-1.5 whitespace-nowrap">
      at most
      <input
        type="number"
        min={0}
        step="any"
        className="field w-20"
        placeholder="no limit"
        key={now}
        defaultValue={now}
        onBlur={(e) => e.target.value !== now && put.mutate(Math.round(Number(e.target.value) * mib))}
      />
      MiB/s
      <Told problem={put.error} />
    </label>
  );
}

export function Steps({ steps }: { steps: Job["steps"] }) {
  return (
    <ol className="mt-1 grid gap-0.5">
      {steps.map((s) => (
        <li key={s.id} className="grid grid-cols-[2.5rem_7rem_6rem_5rem_1fr] gap-2">
          <span className="mono text-soft">{s.id}</span>
          <State is={s.state} />
          <span className="mono text-right text-soft">{s.bytes > 0 && size(s.bytes)}</span>
          <span className="mono text-right text-soft">{took(s)}</span>
          <span>{s.what}</span>
        </li>
      ))}
    </ol>
  );
}

/** The jobs of several machines; those that others do anew are left out. */
export function Children({ of }: { of: string }) {
  const { data, error } = useQuery(childrenQuery(of));
  const resting = data?.filter((j) => !over(j) && !j.cancelling && awaits(j)).length ?? 0;
  return (
    <div className="mt-1 pl-4">
      <Told problem={error} />
      {resting > 1 && <CutOver job={of}>{`Cut over all ${resting} now`}</CutOver>}
      {data
        ?.filter((j) => !j.givenUp)
        .map((j) => (
          <JobRow key={j.id} job={j} child />
        ))}
    </div>
  );
}

export function Made({ copy }: { copy: string }) {
  const { data } = useQuery(copyQuery(copy));
  if (!data) return null;
  return (
    <Link className="text-sea" to={`/lineages/${data.lineage}?copy=${data.id}`}>
      See its lineage
    </Link>
  );
}

const shown = 60; // rates

/** The last rates as a line. */
function Throughput({ rate }: { rate: number }) {
  const rates = useRates(rate, shown).map((r) => r.rate);
  const most = Math.max(1, ...rates);
  const points = rates.map((r, n) => `${(n * 140) / (shown - 1)},${20 - (18 * r) / most}`).join(" ");
  return (
    <svg width={144} height={22} role="img" aria-label="Throughput">
      <polyline points={points} fill="none" stroke="var(--color-sea)" strokeWidth={1.5} />
    </svg>
  );
}
