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

/** Packages of several machines: one of each, all of them on a shelf or in a pool, or one of all, anywhere. */
function Several({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [keep, setKeep] = useState("");
  const [together, setTogether] = useState(false);
  const [file, setFile] = useState("machines.ova");
  const ids = copies.map((c) => c.id).join(",");
  const request = useMemo<Asking | undefined>(() => {
    const of = { operation: "export" as const, copies: ids.split(",") };
    if (!together) {
      return keep ? { ...of, destination: keptAt(keep) } : undefined;
    }
    return file ? { ...of, together, destination: whereTo(keep, file) } : undefined;
  }, [ids, keep, together, file]);
  const p = usePlan(request, (job) => {
    if (together && !keep) void takePackage(job.id);
    onClose();
  });
  const does = together
    ? file
      ? keep
        ? `Write ${file} to ${keptWords(keep)}`
        : `Save ${file} on this computer`
      : "Name the package"
    : keep
      ? `Write ${copies.length} packages to ${keptWords(keep)}`
      : "Choose a shelf or a pool";
  return (
    <PlanSheet
      {...p.sheet}
      later={keep ? p.sheet.later : undefined}
      title={`Export ${copies.length} machines`}
      from={<FromCopies copies={copies} />}
      to={
        <div className="grid gap-3">
          <div className="flex flex-wrap gap-x-6 gap-y-1">
            {[false, true].map((all) => (
              <label key={String(all)} className="flex items-center gap-2">
                <input type="radio" name="packages" checked={together === all} onChange={() => setTogether(all)} />
                {all ? "One package of all of them" : "A package of each"}
              </label>
            ))}
          </div>
          <div className="flex flex-wrap gap-2">
            <KeepPicker
              host={copies[0]!.host}
              value={keep}
              onChange={setKeep}
              none={together ? "save on this computer" : "choose where they go"}
            />
            {together && (
              <input
                aria-label="Name of the package"
                className="field w-56"
                defaultValue={file}
                onBlur={(e) => setFile(e.target.value.trim())}
              />
            )}
          </div>
        </div>
      }
      does={does}
      onClose={onClose}
    />
  );
}

/** Where a package of that name goes: to what is chosen, or to this computer. */
function whereTo(keep: string, file: string) {
  const [directory, name] = /^[^/]+\/[^/]+$/.test(file) && keep.startsWith("pool/") ? file.split("/") : ["", file];
  return keep
    ? { ...keptAt(keep), directory, file: name }
    : { file, place: `the downloads of a browser: ${file}`, piped: true };
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
      destination: whereTo(keep, file),
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
