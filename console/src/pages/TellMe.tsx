import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addTelling, dropTelling, sessionQuery, tellingsQuery, tryTelling } from "../api";
import type { Schemas } from "../api";
import { ago } from "../format";
import { Field, Named } from "../parts/Field";
import { Told } from "../parts/Told";

type Cause = Schemas["Telling"]["causes"][number];

const causes: [Cause, string][] = [
  ["failed", "when one has failed"],
  ["held", "when one can't go on"],
  ["done", "when one is done that took a minute or more"],
];

/** How whoever is signed in is told of jobs. */
export function TellMe() {
  const queries = useQueryClient();
  const { data: session } = useQuery(sessionQuery);
  const { data: list, error } = useQuery(tellingsQuery);
  const [how, setHow] = useState<"mail" | "call">("mail");
  const [address, setAddress] = useState("");
  const [when, setWhen] = useState<Cause[]>(["failed", "held"]);
  const [tried, setTried] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: tellingsQuery.queryKey });
  const add = useMutation({
    mutationFn: () => addTelling({ how, address, causes: when, leastSeconds: 60 }),
    onSuccess: async () => {
      setAddress("");
      await again();
    },
  });
  const attempt = useMutation({ mutationFn: tryTelling, onSuccess: (_, id) => setTried(id) });
  const drop = useMutation({ mutationFn: dropTelling, onSuccess: again });
  const mine = list ?? [];
  return (
    <details className="mb-3 border border-rule bg-sheet px-4 py-2">
      <summary className="cursor-pointer text-soft">
        {mine.length === 0
          ? "Be told of your jobs …"
          : `You are told of jobs: ${mine.map((t) => t.address).join(", ")}`}
      </summary>
      <ul aria-label="Who is told" className="my-2">
        {mine.map((t) => (
          <li key={t.id} className="grid grid-cols-[minmax(0,22rem)_minmax(0,1fr)_auto] items-baseline gap-3 py-1">
            <span className="truncate font-semibold" title={t.address}>
              {t.address}
            </span>
            <span className="text-soft">
              {t.user === "" && "everybody's jobs: "}
              {t.causes.join(", ")}
              {t.toldAt && ` · last ${ago(t.toldAt)}`}
              {t.error && <span className="text-wreck"> · {t.error}</span>}
              {tried === t.id && " · it was taken"}
            </span>
            <span className="flex gap-2">
              <button className="button" disabled={attempt.isPending} onClick={() => attempt.mutate(t.id)}>
                Try it
              </button>
              <button className="button" aria-label={`No more to ${t.address}`} onClick={() => drop.mutate(t.id)}>
                No more
              </button>
            </span>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-end gap-x-4 gap-y-2 pb-1"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        {session?.role === "administrator" && (
          <Named name="How">
            <select className="field" value={how} onChange={(e) => setHow(e.target.value as "mail" | "call")}>
              <option value="mail">by mail</option>
              <option value="call">by a call of a web address</option>
            </select>
          </Named>
        )}
        <Field
          name={how === "mail" ? "Mailbox" : "Web address"}
          hint={how === "mail" ? "robin@skerrow.example" : "https://depot.skerrow.example/jobs"}
          look="w-72"
          value={address}
          set={setAddress}
        />
        <fieldset className="flex flex-wrap gap-x-4">
          {causes.map(([cause, label]) => (
            <label key={cause} className="flex items-baseline gap-1.5">
              <input
                type="checkbox"
                checked={when.includes(cause)}
                onChange={(e) => setWhen(e.target.checked ? [...when, cause] : when.filter((c) => c !== cause))}
              />
              {label}
            </label>
          ))}
        </fieldset>
        <button className="button" disabled={add.isPending || !address || when.length === 0}>
          Tell me
        </button>
      </form>
      {add.data?.secret && (
        <p role="status" className="pb-1">
          Calls are signed with the secret <span className="mono">{add.data.secret}</span>, which is shown only this
          once.
        </p>
      )}
      <Told problem={error ?? add.error ?? attempt.error ?? drop.error} />
    </details>
  );
}
