import { useMemo, useState } from "react";
import type { Asking, Copy, Schemas } from "../api";
import { count } from "../format";
import { FromCopies } from "../parts/FromCopy";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

const gib = 1024 ** 3;

/** Gives several machines the same CPUs and memory; what is left empty stays as each has it. */
export function ChangeSeveral({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [cpus, setCpus] = useState("");
  const [memory, setMemory] = useState("");
  const ids = copies.map((c) => c.id).join(",");
  const request = useMemo<Asking | undefined>(() => {
    if (!Number(cpus) && !Number(memory)) return undefined;
    const asked: Schemas["ChangeRequest"] = { operation: "change", copies: ids.split(",") };
    if (Number(cpus)) asked.cpus = Math.max(1, Math.round(Number(cpus)));
    if (Number(memory)) asked.memoryBytes = Math.round(Number(memory) * gib);
    return asked;
  }, [ids, cpus, memory]);
  const p = usePlan(request, onClose);
  const number = (says: string, value: string, set: (v: string) => void, unit = "") => (
    <label className="flex items-center gap-1.5">
      {says}
      <input
        className="field w-24"
        type="number"
        min={0}
        step="any"
        placeholder="as it is"
        value={value}
        onChange={(e) => set(e.target.value)}
      />
      {unit}
    </label>
  );
  return (
    <PlanSheet
      {...p.sheet}
      title={`Change ${count(copies.length, "machine")}`}
      from={<FromCopies copies={copies} />}
      to={
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          {number("CPUs", cpus, setCpus)}
          {number("memory", memory, setMemory, "GiB")}
        </div>
      }
      does={request ? `Change ${count(copies.length, "machine")}` : "Say what is to be different"}
      onClose={onClose}
    />
  );
}
