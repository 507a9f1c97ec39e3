import { useMemo, useState } from "react";
import type { Copy, Asking } from "../api";
import { place } from "../format";
import { FromCopies } from "../parts/FromCopy";
import { Holds, type Holding } from "../parts/Holds";
import { KeepPicker, keptAt, keptWords } from "../parts/KeepPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { SnapshotPicker } from "../parts/SnapshotPicker";
import { usePlan } from "../parts/usePlan";
import { takePackage } from "../transfer";

/** Writes packages to a shelf or into a pool, or lets the browser save one. */
export function ExportSheet({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  return copies.length === 1 ? (
    <One copy={copies[0]!} onClose={onClose} />
  ) : (
    <Several copies={copies} onClose={onClose} />
  );
}

/** A package of each of several machines: all of them on a shelf, or in a pool. */
function Several({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [keep, setKeep] = useState("");
  const ids = copies.map((c) => c.id).join(",");
  const request = useMemo<Asking | undefined>(
    () => (keep ? { operation: "export", copies: ids.split(","), destination: keptAt(keep) } : undefined),
    [ids, keep],
  );
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
      title={`Export ${copies.length} machines`}
      from={<FromCopies copies={copies} />}
      to={<KeepPicker host={copies[0]!.host} value={keep} onChange={setKeep} none="choose where they go" />}
      does={keep ? `Write ${copies.length} packages to ${keptWords(keep)}` : "Choose a shelf or a pool"}
      onClose={onClose}
    />
  );
}

function One({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [keep, setKeep] = useState("");
  const [snapshot, setSnapshot] = useState("");
  const [file, setFile] = useState(`${copy.name}.ova`);
  const [holding, setHolding] = useState<Holding>({});
  const request = useMemo<Asking>(
    () => ({
      operation: "export",
      copies: [copy.id],
      snapshot,
      ...holding,
      destination: keep
        ? { ...keptAt(keep), file }
        : { file, place: `the downloads of a browser: ${file}`, piped: true },
    }),
    [copy.id, keep, file, snapshot, holding],
  );
  const p = usePlan(request, (job) => {
    if (!keep) void takePackage(job.id);
    onClose();
  });
  return (
    <PlanSheet
      {...p.sheet}
      later={keep ? p.sheet.later : undefined}
      title="Export"
      from={<span className="font-semibold">{place(copy)}</span>}
      to={
        <div className="grid gap-3">
          <Holds copy={copy} value={holding} onChange={setHolding} />
          <div className="flex flex-wrap gap-2">
            <KeepPicker host={copy.host} value={keep} onChange={setKeep} none="save on this computer" />
            <SnapshotPicker copy={copy} value={snapshot} onChange={setSnapshot} />
            <input
              aria-label="File"
              className="field w-56"
              defaultValue={file}
              onBlur={(e) => setFile(e.target.value)}
            />
          </div>
        </div>
      }
      does={keep ? `Write ${file} to ${keptWords(keep)}` : `Save ${file} on this computer`}
      onClose={onClose}
    />
  );
}
