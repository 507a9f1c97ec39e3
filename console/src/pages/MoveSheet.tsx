import { useMemo, useState } from "react";
import type { Asking, Copy, Schemas } from "../api";
import { FromCopy } from "../parts/FromCopy";
import { HostPicker } from "../parts/HostPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { PoolPicker } from "../parts/PoolPicker";
import { usePlan } from "../parts/usePlan";

/** Takes a machine to another host, or to another pool of its host. */
export function MoveSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [host, setHost] = useState("");
  const [pool, setPool] = useState("");
  const request = useMemo<Asking | undefined>(() => {
    if (!host || (host === copy.host && !pool)) return undefined;
    const asked: Schemas["MoveRequest"] = { operation: "move", copies: [copy.id], host, pool };
    return asked;
  }, [copy.id, copy.host, host, pool]);
  const p = usePlan(request, onClose);
  const choose = (to: string) => {
    setHost(to);
    setPool("");
  };
  return (
    <PlanSheet
      {...p.sheet}
      title="Move a machine"
      from={<FromCopy copy={copy} />}
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={choose} />
          <PoolPicker host={host} value={pool} onChange={setPool} />
        </div>
      }
      does={!host ? "Choose a host first" : host === copy.host && !pool ? "Choose another pool" : `Move it to ${host}`}
      onClose={onClose}
    />
  );
}
