import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { hostQuery } from "../api";
import type { Copy, Asking } from "../api";
import { count, place, size } from "../format";
import { readPackage } from "../package";
import { Asked } from "../parts/Asked";
import { FirstStart } from "../parts/FirstStart";
import { HostPicker } from "../parts/HostPicker";
import { PoolPicker } from "../parts/PoolPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";
import { givePackage } from "../transfer";
import { tell } from "../troubles";

type Props = { file?: File; shelved?: Copy; onClose: (started: boolean) => void };

/** Brings in a package that was dropped, or one on a shelf. */
export function ImportSheet({ file, shelved, onClose }: Props) {
  const [host, setHost] = useState("");
  const [pool, setPool] = useState("");
  const [name, setName] = useState("");
  const [firstStart, setFirstStart] = useState("");
  const [properties, setProperties] = useState<Record<string, string>>({});
  const skeleton = useQuery({
    queryKey: ["dropped", file?.name, file?.size, file?.lastModified],
    queryFn: () => readPackage(file!),
    enabled: file !== undefined,
    retry: false,
    staleTime: Infinity,
  });
  const target = useQuery(hostQuery(host));
  const request = useMemo<Asking | undefined>(() => {
    const source = shelved ? { package: shelved.id } : skeleton.data ? { upload: skeleton.data } : undefined;
    return source && host ? { operation: "import", source, host, pool, name, firstStart, properties } : undefined;
  }, [shelved, skeleton.data, host, pool, name, firstStart, properties]);
  const p = usePlan(request, (job) => {
    if (file && skeleton.data) {
      givePackage(job.id, file, skeleton.data.entries).catch((problem: unknown) =>
        tell(`Sending ${file.name} stopped, and what was brought in of it is taken back`, problem),
      );
    }
    onClose(true);
  });
  const disks = p.plan?.steps.filter((s) => s.kind === "fetch-disk") ?? [];
  const bytes = disks.reduce((sum, s) => sum + s.bytes, 0);
  return (
    <PlanSheet
      {...p.sheet}
      later={file ? undefined : p.sheet.later}
      title="Bring in a package"
      from={
        <>
          <span className="font-semibold">{file?.name ?? (shelved && place(shelved))}</span>{" "}
          <span className="mono text-soft">{size(file?.size ?? shelved?.sizeBytes ?? 0)}</span>
        </>
      }
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={setHost} />
          {target.data && (
            <>
              <PoolPicker host={host} value={pool} onChange={setPool} />
              <input
                aria-label="Name"
                className="field w-44"
                placeholder="name as in the package"
                defaultValue={name}
                onBlur={(e) => setName(e.target.value)}
              />
              <FirstStart value={firstStart} onChange={setFirstStart} />
              <Asked plan={p.plan} onChange={setProperties} />
            </>
          )}
        </div>
      }
      problem={skeleton.error ?? p.sheet.problem}
      does={
        host ? `Copy ${count(disks.length, "disk")} (${size(bytes)}) to ${host} and register` : "Choose a host first"
      }
      onClose={() => onClose(false)}
    />
  );
}
