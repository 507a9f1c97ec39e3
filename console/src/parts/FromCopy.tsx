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
