import type { Copy } from "../api";

type Props = { copy: Copy; value: string; onChange: (name: string) => void };

/** Which of a copy's snapshots is meant; nothing is shown of one that has none. */
export function SnapshotPicker({ copy, value, onChange }: Props) {
  const tree = copy.machine?.tree ?? [];
  if (tree.length === 0) return null;
  return (
    <select aria-label="Snapshot" className="field" value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">as it is now</option>
      {tree.map((s) => (
        <option key={s.name} value={s.name}>
          as it was at {s.name}
        </option>
      ))}
    </select>
  );
}
