import { useQuery } from "@tanstack/react-query";
import { hostQuery } from "../api";
import { size } from "../format";

/** Chooses a pool of a host, or leaves the choice to the rules of landing. */
export function PoolPicker({
  host,
  value,
  onChange,
}: {
  host: string;
  value: string;
  onChange: (pool: string) => void;
}) {
  const { data } = useQuery(hostQuery(host));
  if (!data) return null;
  return (
    <select aria-label="Pool" className="field" value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">first pool that is ready</option>
      {data.pools.map((q) => (
        <option key={q.id} value={q.name}>
          {q.name}, {size(q.freeBytes)} free
        </option>
      ))}
    </select>
  );
}
