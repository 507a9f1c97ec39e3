import type { Copy } from "../api";
import { place, size } from "../format";

/** What an operation starts from: a copy's place, and how much it takes. */
export function FromCopy({ copy }: { copy: Copy }) {
  return (
    <>
      <span className="font-semibold">{place(copy)}</span>{" "}
      <span className="mono text-soft">{size(copy.sizeBytes)}</span>
    </>
  );
}

/** The same for several: the first, and how many more. */
export function FromCopies({ copies }: { copies: Copy[] }) {
  const [first, ...more] = copies;
  if (!first) return null;
  if (more.length === 0) return <FromCopy copy={first} />;
  return (
    <span className="font-semibold">
      {place(first)} and {more.length} more
    </span>
  );
}
