import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { looseDisksQuery } from "../api";
import type { Copy, Asking } from "../api";
import { lastPart, place, size } from "../format";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

/** Attaches an existing disk to a copy, in addition or in place of another. */
export function AttachSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [file, setFile] = useState("");
  const [replace, setReplace] = useState("");
  const loose = useQuery(looseDisksQuery(copy.host));
  const disks = loose.data?.items.filter((d) => d.kind === "disk") ?? [];
  const request = useMemo<Asking | undefined>(
    () => (file ? { operation: "attach", copies: [copy.id], file, inPlaceOf: replace || undefined } : undefined),
    [copy.id, file, replace],
  );
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
      title="Attach a disk"
      from={
        <div className="flex flex-wrap items-center gap-2">
          {disks.length > 0 && (
            <select aria-label="Loose disk" className="field" value={file} onChange={(e) => setFile(e.target.value)}>
              <option value="">a loose disk …</option>
              {disks.map((d) => (
                <option key={d.id} value={d.path}>
                  {d.name}, {size(d.virtualBytes)}
                </option>
              ))}
            </select>
          )}
          <input
            aria-label="File"
            className="field w-72"
            placeholder="POOL/PATH of an image"
            defaultValue={file}
            onBlur={(e) => setFile(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && setFile(e.currentTarget.value)}
          />
        </div>
      }
      to={
        <div className="flex flex-wrap items-center gap-2">
          <span className="font-semibold">{place(copy)}</span>
          <select
            aria-label="In place of"
            className="field"
            value={replace}
            onChange={(e) => setReplace(e.target.value)}
          >
            <option value="">in addition</option>
            {copy.machine?.disks?.map((d) => (
              <option key={d.id} value={d.id}>
                in place of {d.id}
              </option>
            ))}
          </select>
        </div>
      }
      does={file ? `Attach ${lastPart(file)}` : "Say which disk"}
      onClose={onClose}
    />
  );
}
