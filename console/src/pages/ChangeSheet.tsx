import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { hostQuery } from "../api";
import type { Copy, Request_ } from "../api";
import { place } from "../format";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

const gib = 1024 ** 3;

/** Changes a registered copy: name, CPUs, memory, wiring, needless devices. */
export function ChangeSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const m = copy.machine;
  const [name, setName] = useState(copy.name);
  const [cpus, setCpus] = useState(m?.cpus ?? 1);
  const [memory, setMemory] = useState((m?.memoryBytes ?? gib) / gib);
  const [wire, setWire] = useState<Record<string, string>>({});
  const target = useQuery(hostQuery(copy.host));
  const request = useMemo<Request_ | undefined>(() => {
    const unplug = Object.keys(wire).filter((n) => wire[n] === "");
    const plugged = Object.fromEntries(Object.entries(wire).filter(([, to]) => to !== ""));
    const changes: Request_ = { operation: "change", copies: [copy.id], wire: plugged, change: { unplug } };
    if (name && name !== copy.name) changes.name = name;
    if (cpus !== m?.cpus) changes.cpus = cpus;
    if (memory * gib !== m?.memoryBytes) changes.memoryBytes = Math.round(memory * gib);
    const any = changes.name || changes.cpus || changes.memoryBytes || Object.keys(wire).length > 0;
    return any ? changes : undefined;
  }, [copy, m, name, cpus, memory, wire]);
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      title="Change a copy"
      from={<span className="font-semibold">{place(copy)}</span>}
      to={
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <label className="flex items-center gap-1.5">
            name <input className="field w-40" defaultValue={name} onBlur={(e) => setName(e.target.value)} />
          </label>
          <label className="flex items-center gap-1.5">
            CPUs
            <input
              className="field w-16"
              type="number"
              min={1}
              value={cpus}
              onChange={(e) => setCpus(Math.max(1, Number(e.target.value)))}
            />
          </label>
          <label className="flex items-center gap-1.5">
            GiB of memory
            <input
              className="field w-20"
              type="number"
              min={0.25}
              step={0.25}
              value={memory}
              onChange={(e) => setMemory(Math.max(0.25, Number(e.target.value)))}
            />
          </label>
          {m?.nics?.map((n) => (
            <label key={n.name} className="flex items-center gap-1.5">
              {n.name}
              <select
                className="field"
                value={wire[n.name] ?? n.network}
                onChange={(e) => setWire({ ...wire, [n.name]: e.target.value })}
              >
                <option value="">unplugged</option>
                {target.data?.switches.map((s) => (
                  <option key={s.name}>{s.name}</option>
                ))}
              </select>
            </label>
          ))}
        </div>
      }
      plan={request && p.plan}
      problem={p.problem}
      busy={p.busy || !request}
      does={request ? `Change ${place(copy)}` : "Nothing is different yet"}
      answers={p.answers}
      onAnswer={p.answer}
      onRun={p.run}
      onClose={onClose}
    />
  );
}
