import { useMemo, useState } from "react";
import type { Asking, Copy, Schemas } from "../api";
import { FromCopies } from "../parts/FromCopy";
import { HostPicker } from "../parts/HostPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { PoolPicker } from "../parts/PoolPicker";
import { usePlan } from "../parts/usePlan";

/** When machines that move cut over. */
const whens = [
  { value: "", says: "cut over as soon as it can" },
  { value: "told", says: "copy now, cut over when I say so" },
  { value: "at", says: "copy now, cut over at …" },
] as const;

/** Takes machines to another host, or to another pool of theirs. */
export function MoveSheet({ copies, onClose }: { copies: Copy[]; onClose: () => void }) {
  const [host, setHost] = useState("");
  const [pool, setPool] = useState("");
  const [when, setWhen] = useState<(typeof whens)[number]["value"]>("");
  const [at, setAt] = useState("");
  const ids = copies.map((c) => c.id).join(",");
  const stays = copies.some((c) => c.host === host);
  const request = useMemo<Asking | undefined>(() => {
    if (!host || (stays && !pool) || (when === "at" && !at)) return undefined;
    const asked: Schemas["MoveRequest"] = { operation: "move", copies: ids.split(","), host, pool };
    if (when) asked.copyAhead = true;
    if (when === "at") asked.cutOverAt = new Date(at).toISOString();
    return asked;
  }, [ids, stays, host, pool, when, at]);
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
          <select
            aria-label="Cut over"
            className="field"
            value={when}
            onChange={(e) => setWhen(e.target.value as typeof when)}
          >
            {whens.map((w) => (
              <option key={w.value} value={w.value}>
                {w.says}
              </option>
            ))}
          </select>
          {when === "at" && (
            <input
              type="datetime-local"
              aria-label="Cut over at"
              className="field"
              value={at}
              onChange={(e) => setAt(e.target.value)}
            />
          )}
        </div>
      }
      does={
        !host
          ? "Choose a host first"
          : stays && !pool
            ? "Choose another pool"
            : when === "at" && !at
              ? "Say when"
              : `Move ${copies.length > 1 ? `${copies.length} machines` : "it"} to ${host}`
      }
      onClose={onClose}
    />
  );
}
