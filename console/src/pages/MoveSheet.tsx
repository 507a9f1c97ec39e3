import { useMemo, useState } from "react";
import type { Asking, Copy, Schemas } from "../api";
import { FromCopies } from "../parts/FromCopy";
import { HostPicker } from "../parts/HostPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { PoolPicker } from "../parts/PoolPicker";
import { usePlan } from "../parts/usePlan";

/** Takes machines to another host, or to another pool of theirs. */
export function MoveSheet({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [host, setHost] = useState("");
  const [pool, setPool] = useState("");
  const ids = copies.map((c) => c.id).join(",");
  const stays = copies.some((c) => c.host === host);
  const request = useMemo<Asking | undefined>(() => {
    if (!host || (stays && !pool)) return undefined;
    const asked: Schemas["MoveRequest"] = { operation: "move", copies: ids.split(","), host, pool };
    return asked;
  }, [ids, stays, host, pool]);
  const p = usePlan(request, onClose);
  const choose = (to: string) => {
    setHost(to);
    setPool("");
  };
  return (
    <PlanSheet
      {...p.sheet}
      title={copies.length > 1 ? `Move ${copies.length} machines` : "Move a machine"}
      from={<FromCopies copies={copies} />}
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={choose} />
          <PoolPicker host={host} value={pool} onChange={setPool} />
        </div>
      }
      does={
        !host
          ? "Choose a host first"
          : stays && !pool
            ? "Choose another pool"
            : `Move ${copies.length > 1 ? `${copies.length} machines` : "it"} to ${host}`
      }
      onClose={onClose}
    />
  );
}
