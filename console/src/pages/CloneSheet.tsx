import { useMemo, useState } from "react";
import type { Asking, Copy, Schemas } from "../api";
import { count as counted } from "../format";
import { FirstStart } from "../parts/FirstStart";
import { FromCopy } from "../parts/FromCopy";
import { HostPicker } from "../parts/HostPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { PoolPicker } from "../parts/PoolPicker";
import { SnapshotPicker } from "../parts/SnapshotPicker";
import { usePlan } from "../parts/usePlan";

type Kind = NonNullable<Schemas["CloneRequest"]["kind"]> | "";

/** Makes other copies of a machine, each with an identity of its own. */
export function CloneSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [host, setHost] = useState(copy.host);
  const [pool, setPool] = useState("");
  const [kind, setKind] = useState<Kind>("");
  const [count, setCount] = useState(1);
  const [name, setName] = useState("");
  const [on, setOn] = useState(false);
  const [snapshot, setSnapshot] = useState("");
  const [firstStart, setFirstStart] = useState("");
  const request = useMemo<Asking | undefined>(() => {
    if (!host) return undefined;
    const asked: Schemas["CloneRequest"] = { operation: "clone", copies: [copy.id], host, pool, name, count, on };
    if (kind) asked.kind = kind;
    if (snapshot) asked.snapshot = snapshot;
    if (firstStart) asked.firstStart = firstStart;
    return asked;
  }, [copy.id, host, pool, kind, name, count, on, snapshot, firstStart]);
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
      title="Clone a machine"
      from={<FromCopy copy={copy} />}
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={setHost} />
          <select aria-label="Kind" className="field" value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
            <option value="">layered, where that can be</option>
            <option value="layered">layered: shares what it holds now</option>
            <option value="whole">whole: stands on its own</option>
          </select>
          <SnapshotPicker copy={copy} value={snapshot} onChange={setSnapshot} />
          <PoolPicker host={host} value={pool} onChange={setPool} />
          <label className="flex items-center gap-1.5">
            how many
            <input
              className="field w-16"
              type="number"
              min={1}
              max={200}
              value={count}
              onChange={(e) => setCount(Math.min(200, Math.max(1, Number(e.target.value))))}
            />
          </label>
          <input
            aria-label="Name"
            className="field w-44"
            placeholder={count > 1 ? "such as class-{nn}" : "a free name"}
            defaultValue={name}
            onBlur={(e) => setName(e.target.value)}
          />
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={on} onChange={(e) => setOn(e.target.checked)} /> start
          </label>
          <FirstStart value={firstStart} onChange={setFirstStart} />
        </div>
      }
      does={host ? `Make ${counted(count, "clone")} at ${host}` : "Choose a host first"}
      onClose={onClose}
    />
  );
}
