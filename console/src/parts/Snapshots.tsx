import { useState } from "react";
import type { Asking, Schemas } from "../api";
import type { Copy } from "../api";
import { ago, exact } from "../format";
import { OperationSheet } from "../pages/OperationSheet";

type Snapshot = Schemas["Snapshot"];

/** A copy's snapshots as a tree, and a way to make one, go back and drop. */
export function Snapshots({ copy }: { copy: Copy }) {
  const tree = copy.machine?.tree ?? [];
  const stands = copy.machine?.stands ?? "";
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const [asked, setAsked] = useState<Asking>();
  const copies = [copy.id];
  const below = (on: string, depth: number): { s: Snapshot; depth: number }[] =>
    tree.filter((s) => (s.parent ?? "") === on).flatMap((s) => [{ s, depth }, ...below(s.name, depth + 1)]);
  return (
    <section aria-label="Snapshots" className="mt-4">
      <h3 className="mb-1 font-semibold text-soft">Snapshots</h3>
      {tree.length > 0 && (
        <ul className="mb-2">
          {below("", 0).map(({ s, depth }) => (
            <li
              key={s.name}
              className="flex items-baseline gap-3 border-b border-rule py-1"
              style={{ paddingLeft: `${depth * 1.5}rem` }}
            >
              <span className="font-semibold">{s.name}</span>
              <span className="text-soft" title={exact(s.madeAt)}>
                {ago(s.madeAt)}
              </span>
              {s.note && <span>{s.note}</span>}
              {s.name === stands && <span className="text-beacon">what it stands on</span>}
              <span className="ml-auto" />
              <button
                className="text-sea hover:underline"
                aria-label={`Go back to ${s.name}`}
                onClick={() => setAsked({ operation: "go-back", copies, snapshot: s.name })}
              >
                go back …
              </button>
              <button
                className="text-sea hover:underline"
                aria-label={`Drop ${s.name}`}
                onClick={() => setAsked({ operation: "drop-snapshot", copies, snapshot: s.name })}
              >
                drop …
              </button>
            </li>
          ))}
        </ul>
      )}
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (name) setAsked({ operation: "snapshot", copies, snapshot: name, note });
        }}
      >
        <input
          aria-label="Name of the snapshot"
          placeholder="name, such as before the update"
          className="field w-64"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <input
          aria-label="Note"
          placeholder="note"
          className="field w-64"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
        <button className="button" disabled={!name}>
          Make a snapshot …
        </button>
      </form>
      {asked && (
        <OperationSheet
          request={asked}
          onClose={() => {
            setAsked(undefined);
            setName("");
            setNote("");
          }}
        />
      )}
    </section>
  );
}
