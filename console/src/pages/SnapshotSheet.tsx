import { useMemo, useState } from "react";
import type { Asking, Copy } from "../api";
import { FromCopies } from "../parts/FromCopy";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

/** Makes a snapshot of that name of each machine. All, or none: those of one host are frozen at one instant then. */
export function SnapshotSheet({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [name, setName] = useState("");
  const ids = copies.map((c) => c.id).join(",");
  const request = useMemo<Asking | undefined>(
    () => (name ? { operation: "snapshot", copies: ids.split(","), snapshot: name } : undefined),
    [ids, name],
  );
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
      title={copies.length > 1 ? `Make snapshots of ${copies.length} machines` : "Make a snapshot"}
      from={<FromCopies copies={copies} />}
      to={
        <input
          aria-label="Name of the snapshot"
          placeholder="name, such as before the update"
          className="field w-64"
          autoFocus
          onBlur={(e) => setName(e.target.value.trim())}
          onKeyDown={(e) => e.key === "Enter" && setName(e.currentTarget.value.trim())}
        />
      }
      does={name ? `Make the snapshot ${name}` : "Name it"}
      onClose={onClose}
    />
  );
}
