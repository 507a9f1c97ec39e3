import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addLanding, dropLanding, landingQuery } from "../api";
import { Field, Named } from "../parts/Field";
import { Told } from "../parts/Told";

const gib = 1024 ** 3;
const empty = { kind: "" as const, label: "", host: "", over: 0, keep: 0 };
type Draft = Omit<typeof empty, "kind"> & { kind: "" | "machine" | "disk" | "media" };

/** Rules that lead files to pools. */
export function Landing() {
  const queries = useQueryClient();
  const { data, error } = useQuery(landingQuery);
  const [draft, setDraft] = useState<Draft>(empty);
  const again = () => queries.invalidateQueries({ queryKey: ["landing"] });
  const add = useMutation({
    mutationFn: () =>
      addLanding({
        kind: draft.kind,
        label: draft.label,
        host: draft.host,
        overBytes: draft.over * gib,
        keepBytes: draft.keep * gib,
      }),
    onSuccess: async () => {
      setDraft(empty);
      await again();
    },
  });
  const drop = useMutation({ mutationFn: dropLanding, onSuccess: again });
  const number = (key: "over" | "keep", label: string) => (
    <Field
      name={label}
      type="number"
      look="w-28"
      value={draft[key] || ""}
      set={(v) => setDraft({ ...draft, [key]: Number(v) })}
    />
  );
  const text = (key: "label" | "host", label: string, hint: string) => (
    <Field name={label} hint={hint} look="w-40" value={draft[key]} set={(v) => setDraft({ ...draft, [key]: v })} />
  );
  return (
    <>
      <h2 className="mt-6 mb-2 text-[16px] font-semibold">Landing: which pools files go to</h2>
      <Told problem={error ?? drop.error} />
      {data?.length === 0 && (
        <p className="text-soft">No rules: a machine lands in its host’s first pool that is ready.</p>
      )}
      <ol>
        {data?.map((r, n) => (
          <li key={r.id} className="flex gap-4 border-t border-rule py-1">
            <span className="mono text-soft">{n + 1}</span>
            <span>{r.says}</span>
            <button className="ml-auto text-sea hover:underline" onClick={() => drop.mutate(r.id)}>
              Drop
            </button>
          </li>
        ))}
      </ol>
      <form
        className="mt-3 flex flex-wrap items-end gap-3"
        aria-label="New rule of landing"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Named name="Files">
          <select
            className="field"
            value={draft.kind}
            onChange={(e) => setDraft({ ...draft, kind: e.target.value as Draft["kind"] })}
          >
            <option value="">any</option>
            <option value="machine">machine folders</option>
            <option value="disk">single disks</option>
            <option value="media">media</option>
          </select>
        </Named>
        {number("over", "of GiB or more")}
        {text("label", "Pools labelled", "fast")}
        {text("host", "Only on host", "any")}
        {number("keep", "keeping GiB free")}
        <button className="button-main" disabled={!draft.label}>
          Add the rule
        </button>
      </form>
      <Told problem={add.error} />
    </>
  );
}
