import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { compareQuery } from "../api";
import type { Schemas } from "../api";
import { place, size } from "../format";
import { Table } from "./Table";
import { Told } from "./Told";

function distance(d: Schemas["DiskComparison"]): string {
  if (d.why) return `not compared: ${d.why}`;
  if (d.exact && d.differentBytes === 0) return `the same, to the byte (${size(d.readBytes)} read of each)`;
  if (d.exact) return `${size(d.differentBytes)} differ (${size(d.readBytes)} read of each)`;
  if (d.samples === 0) return "nothing is known of its contents";
  return `about ${Math.round(100 * d.likeness)} % the same, by ${d.samples} samples`;
}

/** What is not alike of two copies, side by side, and how far their disks have grown apart. */
export function Apart({ a, b }: { a: string; b: string }) {
  const [exactly, setExactly] = useState(false);
  const { data, error, isFetching } = useQuery(compareQuery(a, b, exactly));
  if (!data) return <>{error ? <Told problem={error} /> : <p className="text-soft">Comparing …</p>}</>;
  const both = "mono min-w-0 pr-4 [overflow-wrap:anywhere]";
  return (
    <>
      <Told problem={error} />
      {data.differences.length === 0 ? (
        <p className="text-soft">Their descriptions are alike.</p>
      ) : (
        <Table
          label="Differences"
          items={data.differences}
          keyOf={(d) => d.area + d.what}
          columns={[
            { head: "Of", width: "6rem", look: "pr-4 text-soft", cell: (d) => d.area },
            { head: "What", width: "11rem", look: "min-w-0 pr-4 font-semibold", cell: (d) => d.what },
            { head: place(data.a), width: "minmax(0,1fr)", look: both, cell: (d) => d.a },
            { head: place(data.b), width: "minmax(0,1fr)", look: both, cell: (d) => d.b },
          ]}
        />
      )}
      <ul className="mt-2 grid gap-1" aria-label="Disks">
        {data.disks.map((d) => (
          <li key={d.disk + d.b} className="border-t border-rule pt-1">
            <span className="mr-3 font-semibold">{d.disk}</span>
            {distance(d)}{" "}
            {!d.exact && !d.why && !isFetching && (
              <button className="text-sea hover:underline" onClick={() => setExactly(true)}>
                read all of it
              </button>
            )}
            {isFetching && <span className="text-soft">reading …</span>}
          </li>
        ))}
      </ul>
    </>
  );
}
