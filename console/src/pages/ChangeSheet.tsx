import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { hostQuery } from "../api";
import type { Copy, Asking, Schemas } from "../api";
import { place } from "../format";
import { Choose } from "../parts/Choose";
import { PlanSheet } from "../parts/PlanSheet";
import { usePlan } from "../parts/usePlan";

const gib = 1024 ** 3;

/** Changes a registered copy: name, CPUs, memory, NICs with their wiring, devices. */
export function ChangeSheet({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const m = copy.machine;
  const [name, setName] = useState(copy.name);
  const [cpus, setCpus] = useState(m?.cpus ?? 1);
  const [memory, setMemory] = useState((m?.memoryBytes ?? gib) / gib);
  const [turn, setTurn] = useState(m?.startOrder ?? 0);
  const [media, setMedia] = useState<Record<string, string>>({});
  const [wire, setWire] = useState<Record<string, string>>({});
  const [dropNics, setDropNics] = useState<string[]>([]);
  const [addNics, setAddNics] = useState<string[]>([]);
  const [drop, setDrop] = useState<string[]>([]);
  const [add, setAdd] = useState<string[]>([]);
  const target = useQuery(hostQuery(copy.host));
  const request = useMemo<Asking | undefined>(() => {
    const unplug = Object.keys(wire).filter((n) => wire[n] === "");
    const plugged = Object.fromEntries(Object.entries(wire).filter(([, to]) => to !== ""));
    const lists = { unplug, dropNics, addNics, drop, add };
    const changes: Schemas["ChangeRequest"] = { operation: "change", copies: [copy.id], wire: plugged, ...lists };
    if (name && name !== copy.name) changes.name = name;
    if (cpus !== m?.cpus) changes.cpus = cpus;
    if (memory * gib !== m?.memoryBytes) changes.memoryBytes = Math.round(memory * gib);
    if (turn !== (m?.startOrder ?? 0)) changes.startOrder = turn;
    if (Object.keys(media).length > 0) changes.media = media;
    const listed = [Object.keys(wire), Object.keys(media), dropNics, addNics, drop, add].some((l) => l.length > 0);
    const any = changes.name || changes.cpus || changes.memoryBytes || changes.startOrder !== undefined || listed;
    return any ? changes : undefined;
  }, [copy, m, name, cpus, memory, turn, media, wire, dropNics, addNics, drop, add]);
  const p = usePlan(request, onClose);
  return (
    <PlanSheet
      {...p.sheet}
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
          {target.data?.abilities?.can?.includes("lasting") && (
            <label className="flex items-center gap-1.5" title="0: it does not start with its host">
              turn when the host starts
              <input
                className="field w-16"
                type="number"
                min={0}
                value={turn}
                onChange={(e) => setTurn(Math.max(0, Number(e.target.value)))}
              />
            </label>
          )}
          {m?.nics?.map((n) => (
            <label
              key={n.name}
              className={`flex items-center gap-1.5 ${dropNics.includes(n.name) ? "line-through" : ""}`}
            >
              {n.name}
              <select
                disabled={dropNics.includes(n.name)}
                className="field"
                value={wire[n.name] ?? n.network}
                onChange={(e) => setWire({ ...wire, [n.name]: e.target.value })}
              >
                <option value="">unplugged</option>
                {target.data?.switches.map((s) => (
                  <option key={s.name}>{s.name}</option>
                ))}
              </select>
              <Toggle
                what={n.name}
                out={dropNics.includes(n.name)}
                set={(out) => setDropNics(toggled(dropNics, n.name, out))}
              />
            </label>
          ))}
          {m?.devices?.map((d) => (
            <span key={d.name} className={`flex items-center gap-1.5 ${drop.includes(d.name) ? "line-through" : ""}`}>
              {d.name}
              {d.kind === "cd" ? (
                <input
                  className="field w-48"
                  aria-label={`Medium in ${d.name}`}
                  placeholder="POOL/PATH of a medium"
                  defaultValue={d.file}
                  onBlur={(e) => {
                    const all = Object.entries(media).filter(([drive]) => drive !== d.name);
                    if (e.target.value !== (d.file ?? "")) all.push([d.name, e.target.value]);
                    setMedia(Object.fromEntries(all));
                  }}
                />
              ) : (
                d.file && <span className="text-soft">({d.file})</span>
              )}
              <Toggle what={d.name} out={drop.includes(d.name)} set={(out) => setDrop(toggled(drop, d.name, out))} />
            </span>
          ))}
          <Choose
            name="Add"
            prompt="add …"
            of={[
              { text: "a NIC, unplugged", act: () => setAddNics([...addNics, ""]) },
              ...(target.data?.switches ?? []).map((s) => ({
                text: `a NIC on ${s.name}`,
                act: () => setAddNics([...addNics, s.name]),
              })),
              { text: "a CD drive", act: () => setAdd([...add, "cd"]) },
              { text: "a serial port", act: () => setAdd([...add, "serial"]) },
              { text: "a USB controller", act: () => setAdd([...add, "usb"]) },
            ]}
          />
          {(add.length > 0 || addNics.length > 0) && (
            <span className="text-sea">
              + {[...addNics.map((s) => `NIC ${s ? `on ${s}` : "unplugged"}`), ...add].join(", ")}{" "}
              <button
                className="underline"
                onClick={() => {
                  setAdd([]);
                  setAddNics([]);
                }}
              >
                not so
              </button>
            </span>
          )}
        </div>
      }
      does={request ? `Change ${place(copy)}` : "Nothing is different yet"}
      onClose={onClose}
    />
  );
}

const toggled = (list: string[], name: string, out: boolean) =>
  out ? [...list, name] : list.filter((n) => n !== name);

/** Takes something out of the machine, or leaves it in after all. */
function Toggle({ what, out, set }: { what: string; out: boolean; set: (out: boolean) => void }) {
  return (
    <button
      type="button"
      className="text-sea hover:underline"
      aria-label={`${out ? "Keep" : "Remove"} ${what}`}
      onClick={() => set(!out)}
    >
      {out ? "keep" : "remove"}
    </button>
  );
}
