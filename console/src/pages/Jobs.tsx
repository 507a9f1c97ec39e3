import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { jobsQuery, limitsQuery, setLimits } from "../api";
import { Head } from "../parts/Head";
import { JobRow } from "../parts/JobRow";
import { Told } from "../parts/Told";
import { TellMe } from "./TellMe";

export function Jobs() {
  const { data, error, isSuccess } = useQuery(jobsQuery);
  const jobs = data?.items ?? [];
  return (
    <>
      <Head title="Jobs">
        <Limits />
      </Head>
      <TellMe />
      <Told problem={error} />
      {isSuccess && jobs.length === 0 && (
        <p className="text-soft">No jobs yet. Drop a package (OVA) anywhere on the page to bring a machine in.</p>
      )}
      <div className="grid gap-2">
        {jobs.map((j) => (
          <JobRow key={j.id} job={j} />
        ))}
      </div>
    </>
  );
}

/** How many transfers run at once. */
function Limits() {
  const client = useQueryClient();
  const { data: now } = useQuery(limitsQuery);
  const put = useMutation({
    mutationFn: setLimits,
    onSuccess: (set) => client.setQueryData(limitsQuery.queryKey, set),
  });
  if (!now) return null;
  const field = (what: "perHost" | "perLink" | "perPool", label: string) => (
    <input
      type="number"
      min={1}
      max={100}
      aria-label={label}
      className="field w-14"
      key={now[what]}
      defaultValue={now[what]}
      onBlur={(e) => {
        const n = Number(e.target.value);
        if (n >= 1 && n !== now[what]) put.mutate({ ...now, [what]: n });
      }}
    />
  );
  return (
    <span className="flex items-baseline gap-2 text-soft">
      Transfers of disks at a time: {field("perHost", "Transfers at one host")} at one host,
      {field("perLink", "Transfers between two hosts")} between two, {field("perPool", "Transfers of one pool")} of one
      pool
      <input
        aria-label="Slower hours"
        title="When each transfer is slower, such as mon-fri 08:00-18:00=20MiB; several with a semicolon between"
        placeholder="slower at no time of the day"
        className="field w-64"
        key={now.hours?.join("; ")}
        defaultValue={now.hours?.join("; ")}
        onBlur={(e) => {
          const hours = e.target.value.split(";").map((h) => h.trim());
          const set = hours.filter((h) => h !== "");
          if (set.join("; ") !== (now.hours ?? []).join("; ")) put.mutate({ ...now, hours: set });
        }}
      />
      <Told problem={put.error} />
    </span>
  );
}
