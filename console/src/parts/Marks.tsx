import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { marksQuery, setMark } from "../api";
import { exact } from "../format";
import { Choose } from "./Choose";
import { Told } from "./Told";

const facets: [string, string][] = [
  ["mac", "MACs"],
  ["uuid", "machine UUID"],
  ["firmware-uuid", "firmware UUID"],
  ["disk-id", "disk ids"],
  ["tpm", "TPM identity"],
];
const words = new Map(facets);

/** What is bound to a lineage's identity, and a way to bind and unbind. */
export function Marks({ lineage }: { lineage: string }) {
  const queries = useQueryClient();
  const { data } = useQuery(marksQuery(lineage));
  const set = useMutation({
    mutationFn: setMark,
    onSuccess: () => queries.invalidateQueries({ queryKey: ["copies", "marks", lineage] }),
  });
  return (
    <span className="flex items-center gap-2">
      {data?.map((m) => (
        <span
          key={m.facet}
          className="border border-buoy bg-sheet px-2 py-0.5"
          title={`${m.who}, ${exact(m.at)}: kept whenever a copy is made`}
        >
          {m.kind} bound to its {words.get(m.facet) ?? m.facet}{" "}
          <button
            className="text-sea hover:underline"
            aria-label={`Unbind ${m.facet}`}
            onClick={() => set.mutate({ lineage, facet: m.facet, kind: "" })}
          >
            unbind
          </button>
        </span>
      ))}
      <Choose
        name="Bind"
        prompt="mark as bound …"
        of={["licence", "reservation"].flatMap((kind) =>
          facets.map(([facet, name]) => ({
            text: `a ${kind} to its ${name}`,
            act: () => set.mutate({ lineage, kind, facet }),
          })),
        )}
      />
      <Told problem={set.error} />
    </span>
  );
}
