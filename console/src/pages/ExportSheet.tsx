import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { shelvesQuery } from "../api";
import type { Copy, Asking } from "../api";
import { place } from "../format";
import { FromCopies } from "../parts/FromCopy";
import { Holds, type Holding } from "../parts/Holds";
import { PlanSheet } from "../parts/PlanSheet";
import { SnapshotPicker } from "../parts/SnapshotPicker";
import { usePlan } from "../parts/usePlan";
import { takePackage } from "../transfer";

/** Writes packages to a shelf, or lets the browser save one. */
export function ExportSheet({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  return copies.length === 1 ? (
    <One copy={copies[0]!} onClose={onClose} />
  ) : (
    <Several copies={copies} onClose={onClose} />
  );
}

/** A package of each of several machines: all of them on a shelf. */
function Several({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const shelves = useQuery(shelvesQuery);
  const [picked, setShelf] = useState("");
  const shelf = picked || shelves.data?.[0]?.name || "";
  const ids = copies.map((c) => c.id).join(",");
  const request = useMemo<Asking | undefined>(
    () => (shelf ? { operation: "export", copies: ids.split(","), destination: { shelf } } : undefined),
    [ids, shelf],
  );
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
      title={`Export ${copies.length} machines`}
      from={<FromCopies copies={copies} />}
      to={
        <select aria-label="Destination" className="field" value={shelf} onChange={(e) => setShelf(e.target.value)}>
          {shelves.data?.map((s) => (
            <option key={s.id} value={s.name}>
              shelf {s.name} at {s.host}
            </option>
          ))}
        </select>
      }
      does={shelf ? `Write ${copies.length} packages to the shelf ${shelf}` : "There is no shelf"}
      onClose={onClose}
    />
  );
}

function One({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [shelf, setShelf] = useState("");
  const [snapshot, setSnapshot] = useState("");
  const [file, setFile] = useState(`${copy.name}.ova`);
  const [holding, setHolding] = useState<Holding>({});
  const shelves = useQuery(shelvesQuery);
  const request = useMemo<Asking>(
    () => ({
      operation: "export",
      copies: [copy.id],
      snapshot,
      ...holding,
      destination: shelf ? { shelf, file } : { file, place: `the downloads of a browser: ${file}`, piped: true },
    }),
    [copy.id, shelf, file, snapshot, holding],
  );
  const p = usePlan(request, (job) => {
    if (!shelf) void takePackage(job.id);
    onClose();
  });
  return (
    <PlanSheet
      {...p.sheet}
      later={shelf ? p.sheet.later : undefined}
      title="Export"
      from={<span className="font-semibold">{place(copy)}</span>}
      to={
        <div className="grid gap-3">
          <Holds copy={copy} value={holding} onChange={setHolding} />
          <div className="flex flex-wrap gap-2">
            <select aria-label="Destination" className="field" value={shelf} onChange={(e) => setShelf(e.target.value)}>
              <option value="">save on this computer</option>
              {shelves.data?.map((s) => (
                <option key={s.id} value={s.name}>
                  shelf {s.name} at {s.host}
                </option>
              ))}
            </select>
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
      does={shelf ? `Write ${file} to the shelf ${shelf}` : `Save ${file} on this computer`}
      onClose={onClose}
    />
  );
}
