import { useMemo, useState } from "react";
import type { Copy, Asking } from "../api";
import { count, place, size } from "../format";
import { HostPicker } from "../parts/HostPicker";
import { PoolPicker } from "../parts/PoolPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

type Props = { copies: Copy[]; ahead?: boolean; peer?: boolean; onClose: () => void };

/** Imports machines of a manager, or fetches their disks ahead. */
export function FetchSheet({ copies, ahead = false, peer = false, onClose }: Props) {
  const [host, setHost] = useState("");
  const [pool, setPool] = useState("");
  const [via, setVia] = useState("");
  const [move, setMove] = useState(false);
  const ids = copies.map((c) => c.id).join(" ");
  const request = useMemo<Asking | undefined>(() => {
    if (!host) return undefined;
    const common = { folders: ids.split(" "), host, pool: pool || undefined };
    if (ahead) return { ...common, operation: "fetch-ahead" };
    return { ...common, operation: "register", files: move ? "move" : "copy", via: via || undefined };
  }, [ids, ahead, host, pool, via, move]);
  const p = usePlan(request, onClose);
  const what = copies.length === 1 ? copies[0]!.name : count(copies.length, "machine");
  const verb = ahead ? "Fetch the disks of" : move ? "Move" : "Import";
  return (
    <PlanSheet
      {...p.sheet}
      title={ahead ? "Fetch ahead" : "Import from a manager"}
      from={
        <>
          <span className="font-semibold">
            {copies.length === 1 ? place(copies[0]!) : count(copies.length, "machine")}
          </span>{" "}
          <span className="mono text-soft">{size(copies.reduce((sum, c) => sum + c.sizeBytes, 0))}</span>
        </>
      }
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={setHost} />
          <PoolPicker host={host} value={pool} onChange={setPool} />
          {host && !ahead && !peer && (
            <span className="flex items-center gap-2">
              converted by <HostPicker value={via || host} onChange={setVia} first={false} />
            </span>
          )}
          {host && peer && (
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={move} onChange={(e) => setMove(e.target.checked)} />
              leave none behind
            </label>
          )}
        </div>
      }
      does={host ? `${verb} ${what} ${ahead ? "to" : "and register on"} ${host}` : "Choose a host first"}
      onClose={onClose}
    />
  );
}
