import { useMemo, useState } from "react";
import type { Asking, Schemas } from "../api";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

/** Makes a virtual switch of a host. */
export function SwitchSheet({ host, onClose }: { host: Schemas["HostDetail"]; onClose: () => void }) {
  const [name, setName] = useState("");
  const [segment, setSegment] = useState("");
  const [vlan, setVlan] = useState(0);
  const [uplink, setUplink] = useState("");
  const [tagged, setTagged] = useState(false);
  const [address, setAddress] = useState("");
  const request = useMemo<Asking | undefined>(
    () =>
      name
        ? { operation: "switch-add", host: host.name, switch: { name, segment, vlan, uplink, tagged, address } }
        : undefined,
    [host.name, name, segment, vlan, uplink, tagged, address],
  );
  const p = usePlan(request, onClose);
  const text = (label: string, hint: string, set: (v: string) => void) => (
    <input
      aria-label={label}
      className="field w-36"
      placeholder={hint}
      onBlur={(e) => set(e.target.value)}
      onKeyDown={(e) => e.key === "Enter" && set(e.currentTarget.value)}
    />
  );
  return (
    <PlanSheet
      {...p.sheet}
      title="Make a switch"
      from={<span className="font-semibold">{host.name}</span>}
      to={
        <div className="flex flex-wrap items-center gap-2">
          {text("Name", "name", setName)}
          {text("Segment", "segment", setSegment)}
          <input
            aria-label="VLAN"
            className="field w-20"
            type="number"
            min={0}
            max={4094}
            placeholder="VLAN"
            onChange={(e) => setVlan(Number(e.target.value))}
          />
          <select aria-label="Uplink" className="field" value={uplink} onChange={(e) => setUplink(e.target.value)}>
            <option value="">no way out</option>
            {host.ports?.map((q) => (
              <option key={q.name} value={q.name}>
                by {q.name}
                {q.address && `, which bears ${q.address}`}
              </option>
            ))}
          </select>
          <label className="flex items-center gap-1.5">
            <input type="checkbox" checked={tagged} onChange={(e) => setTagged(e.target.checked)} />
            tagged
          </label>
          {text("Host’s own address", "address of the host", setAddress)}
        </div>
      }
      does={name ? `Make the switch ${name} of ${host.name}` : "Give it a name first"}
      onClose={onClose}
    />
  );
}
