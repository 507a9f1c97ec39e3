import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addHost } from "../api";
import { Told } from "./Told";

/** Adds a host by the one-time code that its agent prints. */
export function AddHost({ onAdded }: { onAdded: (host: string) => void }) {
  const [address, setAddress] = useState("");
  const [code, setCode] = useState("");
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => addHost({ address: address.trim(), code: code.trim() }),
    onSuccess: async (h) => {
      await queries.invalidateQueries();
      onAdded(h.name);
    },
  });
  return (
    <form
      className="my-2 flex flex-wrap items-end gap-3"
      aria-label="Add a host"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <label className="grid gap-0.5 text-soft">
        address of its agent
        <input
          className="field mono w-56"
          placeholder="host.example:7490"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
      </label>
      <label className="grid gap-0.5 text-soft">
        code that it prints
        <input
          className="field mono w-96 max-w-full"
          placeholder="ABCD-EFGH-…"
          autoComplete="off"
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
      </label>
      <button className="button-main" disabled={!address || !code || add.isPending}>
        {add.isPending ? "Asking it …" : "Add the host"}
      </button>
      <div className="w-full">
        <Told problem={add.error} />
      </div>
    </form>
  );
}
