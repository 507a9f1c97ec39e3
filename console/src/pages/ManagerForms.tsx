import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addManager, offerPairing, pairManager, Problem } from "../api";
import { Field } from "../parts/Field";
import { Id } from "../parts/Id";
import { Told } from "../parts/Told";

const frame = "mb-4 grid max-w-4xl gap-3 border border-rule bg-sheet px-4 py-3";

type Granted = { see: string; take: boolean };

/** What another Unvora may see and take here. */
export function Grants({ value, onChange }: { value: Granted; onChange: (g: Granted) => void }) {
  return (
    <>
      <label className="flex items-center gap-1.5">
        see
        <input
          aria-label="May see"
          className="field w-52"
          placeholder="all, or name~tide-*; nothing"
          value={value.see}
          onChange={(e) => onChange({ ...value, see: e.target.value })}
        />
      </label>
      <label className="flex items-center gap-1.5">
        <input type="checkbox" checked={value.take} onChange={(e) => onChange({ ...value, take: e.target.checked })} />
        and take it
      </label>
    </>
  );
}

/** Adds a foreign manager; a certificate that is not known is shown first. */
export function AddManager({ onDone }: { onDone: () => void }) {
  const queries = useQueryClient();
  const [entry, setEntry] = useState({ name: "", address: "", account: "", password: "" });
  const set = (key: keyof typeof entry) => (v: string) => setEntry({ ...entry, [key]: v });
  const add = useMutation({
    mutationFn: (trust: string) => addManager({ ...entry, trust }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["hosts"] });
      onDone();
    },
  });
  const unknown =
    add.error instanceof Problem && add.error.code === "certificate-unknown" ? add.error.likely[0] : undefined;
  return (
    <form
      aria-label="Add a foreign manager"
      className={`${frame} grid-cols-[1fr_2fr_1fr_1fr_auto_auto] items-end`}
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate("");
      }}
    >
      <Field name="Name" hint="mainland" value={entry.name} set={set("name")} />
      <Field name="Address" hint="https://mainland.example/cimi" value={entry.address} set={set("address")} />
      <Field name="Account" value={entry.account} set={set("account")} />
      <Field name="Password" type="password" value={entry.password} set={set("password")} />
      <button className="button-main" disabled={add.isPending}>
        Add
      </button>
      <button type="button" className="button" onClick={onDone}>
        Close
      </button>
      <div className="col-span-6">
        {unknown ? (
          <div role="alert" className="border-l-4 border-buoy px-3 py-1">
            <p>Its certificate is not known here. Compare the fingerprint with what the people there tell you:</p>
            <p className="mono [overflow-wrap:anywhere]">{unknown}</p>
            <button type="button" className="button mt-1" onClick={() => add.mutate(unknown)}>
              It is theirs: trust it
            </button>
          </div>
        ) : (
          <Told problem={add.error} />
        )}
        <p className="text-soft">The password is kept sealed, and never shown again.</p>
      </div>
    </form>
  );
}

/** Pairs with another Unvora: a code for its people, and theirs for us. */
export function Pair({ onDone }: { onDone: () => void }) {
  const queries = useQueryClient();
  const [entry, setEntry] = useState({ name: "", address: "", code: "" });
  const [grants, setGrants] = useState<Granted>({ see: "", take: false });
  const set = (key: keyof typeof entry) => (v: string) => setEntry({ ...entry, [key]: v });
  const offer = useMutation({ mutationFn: offerPairing });
  const pair = useMutation({
    mutationFn: () => pairManager({ ...entry, grants }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["hosts"] });
      onDone();
    },
  });
  return (
    <form
      aria-label="Pair with another Unvora"
      className={frame}
      onSubmit={(e) => {
        e.preventDefault();
        pair.mutate();
      }}
    >
      <div className="flex flex-wrap items-center gap-3">
        <span className="font-semibold">1. For their people:</span>
        {offer.data ? (
          <span>
            <Id value={offer.data.code} /> at <Id value={offer.data.address} />
            <span className="text-soft">, once, within a quarter of an hour</span>
          </span>
        ) : (
          <button type="button" className="button" onClick={() => offer.mutate()}>
            Make a one-time code
          </button>
        )}
        <Told problem={offer.error} />
      </div>
      <div className="grid grid-cols-[auto_1fr_1fr_2fr] items-end gap-3">
        <span className="py-1 font-semibold">2. From them:</span>
        <Field name="Name" hint="island" value={entry.name} set={set("name")} />
        <Field name="Address" hint="island.example:7489" value={entry.address} set={set("address")} />
        <Field name="Code" value={entry.code} set={set("code")} />
      </div>
      <div className="flex flex-wrap items-center gap-3">
        <span className="font-semibold">3. They may, here,</span>
        <Grants value={grants} onChange={setGrants} />
        <span className="ml-auto" />
        <button className="button-main" disabled={pair.isPending}>
          Pair
        </button>
        <button type="button" className="button" onClick={onDone}>
          Close
        </button>
      </div>
      <Told problem={pair.error} />
    </form>
  );
}
