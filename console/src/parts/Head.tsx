import type { ReactNode } from "react";

/** The head of a table; before its names there may be one thing more. */
export function Head({ of, first }: { of: string[]; first?: ReactNode }) {
  return (
    <thead className="text-soft">
      <tr>
        {first && <th className="w-8 py-1">{first}</th>}
        {of.map((name, n) => (
          <th key={n} className="py-1 pr-4 font-semibold">
            {name}
          </th>
        ))}
      </tr>
    </thead>
  );
}
