import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { compareQuery, historyQuery, recognise, track } from "../api";
import type { Copy, Schemas } from "../api";
import { exact, place, size } from "../format";
import { Choose } from "./Choose";
import { Table } from "./Table";
import { Told } from "./Told";

/** How a copy that was found was recognised; a person can confirm or correct it. */
export function Recognised({ copy, others }: { copy: Copy; others: Copy[] }) {
  const queries = useQueryClient();
  const say = useMutation({
    mutationFn: (of: string) => recognise(copy.id, of),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["copies"] }),
  });
  const evidence = copy.evidence?.filter((e) => e.weight > 0) ?? [];
  if (copy.madeBy !== "survey" || copy.form === "package") return null;
  const parent = others.find((o) => o.id === copy.parent);
  return (
    <section className="mt-4" aria-label="Recognised">
      <h3 className="mb-1 font-semibold text-soft">What it is</h3>
      <div className="flex flex-wrap items-center gap-3">
        {parent ? (
          <span>
            A copy of <span className="font-semibold">{place(parent)}</span>
            {copy.settledBy && `, says ${copy.settledBy}`}
          </span>
        ) : (
          <span className="text-soft">Nothing says what it was made from.</span>
        )}
        {evidence.map((e) => (
          <span key={e.kind} className="border border-rule bg-sheet px-2 py-0.5" title={`${e.weight} points`}>
            {e.says} <span className="mono text-soft">{e.weight}</span>
          </span>
        ))}
        {parent && !copy.settledBy && (
          <button className="button" onClick={() => say.mutate(parent.id)}>
            So it is
          </button>
        )}
        <Choose
          name="Correct it"
          prompt="correct it …"
          of={[
            { text: "it is a machine of its own", act: () => say.mutate("") },
            ...others
              .filter((o) => o.id !== copy.id && o.id !== copy.parent && o.form !== "package")
              .map((o) => ({ text: `a copy of ${place(o)}`, act: () => say.mutate(o.id) })),
          ]}
        />
      </div>
      <Told problem={say.error} />
    </section>
  );
}

function distance(d: Schemas["DiskComparison"]): string {
  if (d.why) return `not compared: ${d.why}`;
  if (d.exact && d.differentBytes === 0) return `the same, to the byte (${size(d.readBytes)} read of each)`;
  if (d.exact) return `${size(d.differentBytes)} differ (${size(d.readBytes)} read of each)`;
  if (d.samples === 0) return "nothing is known of its contents";
  return `about ${Math.round(100 * d.likeness)} % the same, by ${d.samples} samples`;
}

/** How far a copy and another of its lineage have grown apart. */
export function Compared({ copy, others }: { copy: Copy; others: Copy[] }) {
  const [other, setOther] = useState("");
  const [exactly, setExactly] = useState(false);
  const { data, error, isFetching } = useQuery(compareQuery(copy.id, other, exactly));
  const candidates = others.filter((o) => o.id !== copy.id && !o.goneAt && o.form !== "package");
  if (candidates.length === 0) return null;
  return (
    <section className="mt-4" aria-label="Comparison">
      <h3 className="mb-1 flex items-center gap-3 font-semibold text-soft">
        Compare with
        <select
          aria-label="Compare with"
          className="field font-normal text-ink"
          value={other}
          onChange={(e) => {
            setOther(e.target.value);
            setExactly(false);
          }}
        >
          <option value="">…</option>
          {candidates.map((o) => (
            <option key={o.id} value={o.id}>
              {place(o)}
            </option>
          ))}
        </select>
        {isFetching && <span className="font-normal">comparing …</span>}
      </h3>
      <Told problem={error} />
      {data && other && (
        <Table
          label="Differences"
          items={[...data.differences, ...data.disks]}
          keyOf={(d) => ("disk" in d ? d.disk + d.b : d.area + d.what)}
          columns={[
            { head: "Of", look: "pr-4 text-soft", cell: (d) => ("disk" in d ? "disk" : d.area) },
            { head: "What", look: "pr-4 font-semibold", cell: (d) => ("disk" in d ? d.disk : d.what) },
            {
              head: "Here and there",
              width: "1fr",
              cell: (d) =>
                "disk" in d ? (
                  <>
                    {distance(d)}{" "}
                    {!d.exact && !d.why && (
                      <button className="text-sea hover:underline" onClick={() => setExactly(true)}>
                        read all of it
                      </button>
                    )}
                  </>
                ) : (
                  <span className="mono grid grid-cols-2 gap-4">
                    <span>{d.a}</span>
                    <span>{d.b}</span>
                  </span>
                ),
            },
          ]}
        />
      )}
    </section>
  );
}

/** What was done to a copy, newest first. */
export function Happened({ copy }: { copy: Copy }) {
  const { data } = useQuery(historyQuery(copy.lineage));
  const entries = data?.items.filter((e) => e.copy === copy.id) ?? [];
  if (entries.length === 0) return null;
  return (
    <section className="mt-4" aria-label="History">
      <h3 className="mb-1 font-semibold text-soft">What was done to it</h3>
      <ul>
        {entries.map((e) => (
          <li key={e.id} className="flex gap-4 border-t border-rule py-1">
            <span className="mono text-soft">{exact(e.at)}</span>
            <span>
              {e.what} by {e.who}
            </span>
            <span className="text-soft">{e.why}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Lets Unvora look after a copy, or leave it alone. */
export function Tracking({ copy }: { copy: Copy }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: () => track([copy.id], !copy.tracked),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["copies"] }),
  });
  return (
    <button
      className="button"
      title="What is left alone is seen and compared, and never touched"
      onClick={() => set.mutate()}
    >
      {copy.tracked ? "Leave alone" : "Look after it"}
    </button>
  );
}
