import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { cancelJob, copyQuery, holdJob, jobsQuery, resumeJob } from "../api";
import type { Job } from "../api";
import { ago, count, duration, exact, size } from "../format";
import { State } from "../parts/State";
import { Told } from "../parts/Told";

export function Jobs() {
  const { data, error, isSuccess } = useQuery(jobsQuery);
  const jobs = data?.items ?? [];
  return (
    <>
      <h1 className="mb-3 text-[20px] font-semibold">Jobs</h1>
      <Told problem={error} />
      {isSuccess && jobs.length === 0 && (
        <p className="text-soft">No jobs yet. Drop a package (OVA) anywhere on the page to bring one in.</p>
      )}
      <div className="grid gap-2">
        {jobs.map((j) => (
          <JobRow key={j.id} job={j} />
        ))}
      </div>
    </>
  );
}

const over = (j: Job) => j.state === "done" || j.state === "failed" || j.state === "cancelled";

/** How long a step took. */
function took(s: Job["steps"][number]) {
  if (!s.startedAt || !s.finishedAt) return "";
  return `${((Date.parse(s.finishedAt) - Date.parse(s.startedAt)) / 1000).toFixed(1)} s`;
}

function JobRow({ job: j }: { job: Job }) {
  const cancel = useMutation({ mutationFn: () => cancelJob(j.id) });
  const halt = useMutation({ mutationFn: () => (j.state === "held" ? resumeJob(j.id) : holdJob(j.id)) });
  const percent = j.total > 0 ? Math.min(100, Math.round((100 * j.done) / j.total)) : over(j) ? 100 : 0;
  const current = j.steps.find((s) => s.state === "working");
  return (
    <article className="border border-rule bg-sheet px-4 py-2" aria-label={`${j.operation} ${j.subject}`}>
      <div className="flex items-baseline gap-3">
        <span className="font-semibold">{j.operation}</span>
        <span>{j.subject}</span>
        <State is={j.state} />
        <span className="ml-auto text-soft" title={exact(j.createdAt)}>
          {j.user}, {ago(j.createdAt)}
        </span>
        {j.state === "done" && j.newCopy && <Made copy={j.newCopy} />}
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
      </div>
      {!over(j) && (
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
      )}
      {current && <p className="mt-1 text-soft">{current.what}</p>}
      {j.downSeconds != null && <p className="mt-1 text-soft">Its machine stood for {j.downSeconds.toFixed(1)} s.</p>}
      <details className="mt-1">
        <summary className="cursor-pointer text-soft">{count(j.steps.length, "step")}</summary>
        <ol className="mt-1 grid gap-0.5">
          {j.steps.map((s) => (
            <li key={s.id} className="grid grid-cols-[2.5rem_7rem_6rem_5rem_1fr] gap-2">
              <span className="mono text-soft">{s.id}</span>
              <State is={s.state} />
              <span className="mono text-right text-soft">{s.bytes > 0 && size(s.bytes)}</span>
              <span className="mono text-right text-soft">{took(s)}</span>
              <span>{s.what}</span>
            </li>
          ))}
        </ol>
      </details>
      {j.error && (
        <p className="mt-1 text-wreck">
          {j.error.message}
          {j.retryAt && <span title={exact(j.retryAt)}> It is tried again by itself.</span>}
        </p>
      )}
      <Told problem={cancel.error ?? halt.error} />
    </article>
  );
}

function Made({ copy }: { copy: string }) {
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
  const [rates, setRates] = useState<number[]>([]);
  const now = useRef(rate);
  useEffect(() => {
    now.current = rate;
  }, [rate]);
  useEffect(() => {
    const timer = setInterval(() => setRates((r) => [...r, now.current].slice(-shown)), 1000);
    return () => clearInterval(timer);
  }, []);
  const most = Math.max(1, ...rates);
  const points = rates.map((r, n) => `${(n * 140) / (shown - 1)},${20 - (18 * r) / most}`).join(" ");
  return (
    <svg width={144} height={22} role="img" aria-label="Throughput">
      <polyline points={points} fill="none" stroke="var(--color-sea)" strokeWidth={1.5} />
    </svg>
  );
}
