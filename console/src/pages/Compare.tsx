import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { compareQuery } from "../api";
import type { Copy } from "../api";
import { place } from "../format";
import { Head } from "../parts/Head";
import { Apart } from "../parts/Apart";

const Named = ({ copy: c }: { copy: Copy }) => (
  <Link className="font-semibold text-sea" to={`/lineages/${c.lineage}?copy=${c.id}`}>
    {place(c)}
  </Link>
);

/** Two copies side by side, whatever they descend from: /compare?a=ID&b=ID. */
export function Compare() {
  const [search] = useSearchParams();
  const [a, b] = [search.get("a") ?? "", search.get("b") ?? ""];
  const { data } = useQuery(compareQuery(a, b, false));
  return (
    <>
      <Head title="How far apart" />
      {data && (
        <p className="mb-3">
          <Named copy={data.a} /> and <Named copy={data.b} />{" "}
          <span className="text-soft">{data.sameLineage ? "are of one lineage." : "are of different lineages."}</span>
        </p>
      )}
      {a && b ? (
        <Apart key={a + b} a={a} b={b} />
      ) : (
        <p className="text-soft">
          Choose two on <Link to="/copies">Copies</Link>, then Compare.
        </p>
      )}
    </>
  );
}
