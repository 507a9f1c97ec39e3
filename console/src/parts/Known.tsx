import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { historyQuery, recognise, track } from "../api";
import type { Copy } from "../api";
import { exact, place } from "../format";
import { Apart } from "./Apart";
import { Choose } from "./Choose";
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

/** How far a copy and another of its lineage have grown apart. */
export function Compared({ copy, others }: { copy: Copy; others: Copy[] }) {
  const [other, setOther] = useState("");
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
          onChange={(e) => setOther(e.target.value)}
        >
          <option value="">…</option>
          {candidates.map((o) => (
            <option key={o.id} value={o.id}>
              {place(o)}
            </option>
          ))}
        </select>
      </h3>
      {other && <Apart key={other} a={copy.id} b={other} />}
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
