import { useMemo, useState } from "react";
import type { Copy, Asking } from "../api";
import { FromCopy } from "../parts/FromCopy";
import { HostPicker } from "../parts/HostPicker";
import { PoolPicker } from "../parts/PoolPicker";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

type Files = "stay" | "copy" | "move";
const does: Record<Files, string> = {
  stay: "Register it where it lies, on",
  copy: "Copy it and register it on",
  move: "Move it and register it on",
};

/** Makes a registered copy of a machine folder that was found in a pool. */
export function RegisterSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const [host, setHost] = useState(copy.host);
  const [files, setFiles] = useState<Files>("stay");
  const [pool, setPool] = useState("");
  const [name, setName] = useState("");
  const request = useMemo<Asking | undefined>(
    () => (host ? { operation: "register", folders: [copy.id], host, files, pool, name } : undefined),
    [copy.id, host, files, pool, name],
  );
  const p = usePlan(request, onClose);
  const choose = (h: string) => {
    setHost(h);
    if (h !== copy.host && files === "stay") setFiles("copy");
  };
  return (
    <PlanSheet
      {...p.sheet}
      title="Register a machine folder"
      from={<FromCopy copy={copy} />}
      to={
        <div className="flex flex-wrap items-center gap-2">
          <HostPicker value={host} onChange={choose} />
          <select
            aria-label="Files"
            className="field"
            value={files}
            onChange={(e) => setFiles(e.target.value as Files)}
          >
            <option value="stay">files stay</option>
            <option value="copy">files are copied</option>
            <option value="move">files are moved</option>
          </select>
          {files !== "stay" && <PoolPicker host={host} value={pool} onChange={setPool} />}
          <input
            aria-label="Name"
            className="field w-44"
            placeholder="name as it is"
            defaultValue={name}
            onBlur={(e) => setName(e.target.value)}
          />
        </div>
      }
      does={host ? `${does[files]} ${host}` : "Choose a host first"}
      onClose={onClose}
    />
  );
}
