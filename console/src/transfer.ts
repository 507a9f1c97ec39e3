import { cancelJob, getTransfer, packageLink, Problem, sendBytes } from "./api";
import type { Schemas } from "./api";

// Refusals that pass by themselves; whatever else is refused now is refused again.
const passing = ["unreachable", "not-now", "unknown", "offset", "host.unreachable", "database.away", "signed-out"];
const mayPass = (problem: unknown) =>
  problem instanceof TypeError || (problem instanceof Problem && passing.includes(problem.code));
const over = (state: string) => state === "done" || state === "failed" || state === "cancelled";
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

/** Sends what a job needs of a package, from wherever it needs it on, until it is over. */
export async function givePackage(job: string, file: File, entries: Schemas["Skeleton"]["entries"]) {
  for (;;) {
    try {
      const wanted = await getTransfer(job);
      if (over(wanted.state)) return;
      if (!wanted.need) continue;
      const entry = entries.find((e) => e.name === wanted.need!.entry);
      if (!entry) throw new Error(`The package has no ${wanted.need.entry}.`);
      const from = entry.offset + wanted.need.offset;
      await sendBytes(job, wanted.need.offset, file.slice(from, entry.offset + entry.size));
    } catch (problem) {
      if (!mayPass(problem)) {
        await cancelJob(job).catch(() => undefined); // nothing half-done stays
        throw problem;
      }
      await pause(700); // cut off: the service says from where on it needs the rest
    }
  }
}

/** Waits until the job hands its package out, then lets the browser save it. */
export async function takePackage(job: string) {
  for (;;) {
    const wanted = await getTransfer(job).catch(() => ({ state: "working", give: undefined }));
    if (over(wanted.state)) return;
    if (wanted.give) break;
    await pause(300);
  }
  const link = document.createElement("a");
  link.href = packageLink(job);
  link.download = "";
  link.click();
}
