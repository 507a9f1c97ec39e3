import { Problem } from "../api";

/** An error, with what to do about it. */
export function Told({ problem }: { problem: unknown }) {
  if (!problem) return null;
  const next = problem instanceof Problem ? problem.next : "";
  return (
    <p role="alert" className="my-2 border-l-4 border-wreck bg-sheet px-3 py-1.5">
      <span className="font-semibold text-wreck">{(problem as Error).message}</span>
      {next && <span className="block text-soft">{next}</span>}
    </p>
  );
}
