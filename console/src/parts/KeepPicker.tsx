import { useQuery } from "@tanstack/react-query";
import { hostQuery, shelvesQuery } from "../api";
import type { Schemas } from "../api";
import { size } from "../format";

/** The destination that a value of the picker means: KIND/NAME. */
export function keptAt(keep: string): Schemas["Destination"] {
  const [kind, name] = keep.split("/");
  return kind === "pool" ? { pool: name } : { shelf: name };
}

export const keptWords = (keep: string) => `the ${keep.replace("/", " ")}`;

/** Chooses where packages go: a shelf, or a pool that the host sees. Values are KIND/NAME; "" is none of them. */
export function KeepPicker({
  host,
  value,
  onChange,
  none,
}: {
  host: string;
  value: string;
  onChange: (keep: string) => void;
  none: string;
}) {
  const shelves = useQuery(shelvesQuery);
  const at = useQuery(hostQuery(host));
  return (
    <select aria-label="Destination" className="field" value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">{none}</option>
      {shelves.data?.map((s) => (
        <option key={s.id} value={`shelf/${s.name}`}>
          shelf {s.name} at {s.host}
        </option>
      ))}
      {at.data?.pools
        .filter((p) => p.state === "ready")
        .map((p) => (
          <option key={p.id} value={`pool/${p.name}`}>
            pool {p.name}, {size(p.freeBytes)} free
          </option>
        ))}
    </select>
  );
}
