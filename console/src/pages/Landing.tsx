import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addLanding, dropLanding, landingQuery } from "../api";
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
    <label className="grid gap-0.5">
      <span className="text-soft">{label}</span>
      <input
        className="field w-28"
        type="number"
        min={0}
        value={draft[key] || ""}
        onChange={(e) => setDraft({ ...draft, [key]: Number(e.target.value) })}
      />
    </label>
  );
  const text = (key: "label" | "host", label: string, hint: string) => (
    <label className="grid gap-0.5">
      <span className="text-soft">{label}</span>
      <input
        className="field w-40"
        placeholder={hint}
        value={draft[key]}
        onChange={(e) => setDraft({ ...draft, [key]: e.target.value })}
      />
    </label>
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
        <label className="grid gap-0.5">
          <span className="text-soft">Files</span>
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
        </label>
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
