import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { checkManager, dropManager, grantManager, managerCopiesQuery, managerQuery, managersQuery } from "../api";
import type { Copy, Manager } from "../api";
import { ago, count, exact, size } from "../format";
import { Head } from "../parts/Head";
import { Confirm } from "../parts/Confirm";
import { State } from "../parts/State";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";
import { FetchSheet } from "./FetchSheet";
import { AddManager, Grants, Pair } from "./ManagerForms";

const row = "grid w-full grid-cols-[1fr_auto] border-b border-rule px-3 py-2 text-left";
const speaks = (m: Manager) => (m.kind === "unvora" ? "another Unvora" : `speaks CIMI ${m.version}`);

/** Other management servers: who they are, what they have, and bringing it here. */
export function Managers() {
  const { data, error, isSuccess } = useQuery(managersQuery);
  const [search, setSearch] = useSearchParams();
  const [form, setForm] = useState<"add" | "pair">();
  const managers = data ?? [];
  const open = managers.find((m) => m.id === search.get("manager")) ?? managers[0];
  return (
    <>
      <Head title="Managers" says={count(managers.length, "other management server")}>
        <button className="button" onClick={() => setForm("add")}>
          Add a foreign one …
        </button>
        <button className="button" onClick={() => setForm("pair")}>
          Pair with an Unvora …
        </button>
      </Head>
      <Told problem={error} />
      {form === "add" && <AddManager onDone={() => setForm(undefined)} />}
      {form === "pair" && <Pair onDone={() => setForm(undefined)} />}
      {isSuccess && managers.length === 0 && (
        <p className="text-soft">
          None yet. Add the management server of another institute, and its machines are seen here; pair with another
          Unvora, and lineages are one across both.
        </p>
      )}
      {managers.length > 0 && (
        <div className="grid grid-cols-[17rem_1fr] gap-6">
          <ul aria-label="Managers">
            {managers.map((m) => (
              <li key={m.id}>
                <button
                  className={`${row} ${m.id === open?.id ? "bg-chart" : "hover:bg-sheet"}`}
                  onClick={() => setSearch({ manager: m.id }, { replace: true })}
                >
                  <span className="font-semibold">{m.name}</span>
                  <State is={m.state} />
                  <span className="text-soft">{speaks(m)}</span>
                  <span className="mono text-soft">{m.copies}</span>
                </button>
              </li>
            ))}
          </ul>
          {open && <One key={open.id} manager={open} />}
        </div>
      )}
    </>
  );
}

function One({ manager: m }: { manager: Manager }) {
  const queries = useQueryClient();
  const detail = useQuery(managerQuery(m.id));
  const list = usePages(useInfiniteQuery(managerCopiesQuery(m.name)));
  const copies = list.items;
  const [picked, setPicked] = useState<string[]>([]);
  const [sheet, setSheet] = useState<{ copies: Copy[]; ahead: boolean }>();
  const check = useMutation({ mutationFn: () => checkManager(m.id) });
  const drop = useMutation({
    mutationFn: () => dropManager(m.id),
    onSuccess: () => queries.invalidateQueries(),
  });
  const fetched = new Map(detail.data?.ahead.map((a) => [a.copy, a]));
  const chosen = copies.filter((c) => picked.includes(c.id));
  const foreign = m.kind === "cimi";
  return (
    <section aria-label={m.name} className="min-w-0">
      <div className="mb-1 flex flex-wrap items-center gap-3">
        <h2 className="text-[16px] font-semibold">{m.name}</h2>
        <span className="mono [overflow-wrap:anywhere] text-soft">{m.address}</span>
        {m.account && <span className="text-soft">as {m.account}</span>}
        <span className="text-soft" title={exact(m.lastSeen)}>
          seen {ago(m.lastSeen)}
        </span>
        <span className="ml-auto" />
        <button className="button" onClick={() => check.mutate()}>
          Check
        </button>
        <Confirm
          name="Drop"
          says="It is forgotten, with what it is asked with. Copies that came from it stay."
          does={`Drop ${m.name}`}
          onDo={() => drop.mutate()}
        />
      </div>
      {m.problem && <p className="my-2 border-l-4 border-wreck bg-sheet px-3 py-1.5 text-wreck">✕ {m.problem}</p>}
      <Told problem={check.error ?? drop.error ?? list.error} />
      {check.data && (
        <ul aria-label="Checks" className="my-2 border border-rule bg-sheet px-4 py-2">
          {check.data.map((k) => (
            <li key={k.what} className="grid grid-cols-[1.2rem_6rem_1fr]">
              <span className={k.ok ? "text-beacon" : "text-wreck"}>{k.ok ? "✓" : "✕"}</span>
              <span className="font-semibold">{k.what}</span>
              <span className="[overflow-wrap:anywhere]">{k.says}</span>
            </li>
          ))}
        </ul>
      )}
      {!foreign && <Granted manager={m} />}
      <div className="mt-3 mb-1 flex items-center gap-3">
        <span className="text-soft">
          {count(copies.length, "machine")}
          {chosen.length > 0 && `, ${chosen.length} chosen`}
        </span>
        <span className="ml-auto" />
        {foreign && (
          <button
            className="button"
            disabled={chosen.length === 0}
            onClick={() => setSheet({ copies: chosen, ahead: true })}
          >
            Fetch ahead …
          </button>
        )}
        <button
          className="button-main"
          disabled={chosen.length === 0}
          onClick={() => setSheet({ copies: chosen, ahead: false })}
        >
          Import …
        </button>
      </div>
      <Table
        label="Machines"
        items={copies}
        keyOf={(c) => c.id}
        more={list.more}
        columns={[
          {
            width: "2rem",
            head: (
              <input
                type="checkbox"
                aria-label="All"
                checked={copies.length > 0 && chosen.length === copies.length}
                onChange={(e) => setPicked(e.target.checked ? copies.map((c) => c.id) : [])}
              />
            ),
            cell: (c) => (
              <input
                type="checkbox"
                aria-label={`Pick ${c.name}`}
                checked={picked.includes(c.id)}
                onChange={(e) => setPicked(e.target.checked ? [...picked, c.id] : picked.filter((p) => p !== c.id))}
              />
            ),
          },
          {
            head: "Machine",
            cell: (c) => (
              <Link className="font-semibold text-sea hover:underline" to={`/lineages/${c.lineage}?copy=${c.id}`}>
                {c.name}
              </Link>
            ),
          },
          { head: "Host", cell: (c) => c.host.split("@")[0] },
          { head: "State", cell: (c) => <State is={c.state} /> },
          { head: "Size", look: "mono pr-4", cell: (c) => size(c.sizeBytes) },
          ...(foreign
            ? [
                {
                  head: "Fetched ahead",
                  look: "text-soft",
                  cell: (c: Copy) => {
                    const f = fetched.get(c.id);
                    return f ? `to ${f.host}, ${ago(f.at)}` : "–";
                  },
                },
              ]
            : []),
        ]}
      />
      {sheet && (
        <FetchSheet
          copies={sheet.copies}
          ahead={sheet.ahead}
          peer={!foreign}
          onClose={() => {
            setSheet(undefined);
            void queries.invalidateQueries({ queryKey: ["hosts"] });
          }}
        />
      )}
    </section>
  );
}

function Granted({ manager: m }: { manager: Manager }) {
  const queries = useQueryClient();
  const [grants, setGrants] = useState({ see: m.grants?.see ?? "", take: m.grants?.take ?? false });
  const say = useMutation({
    mutationFn: () => grantManager(m.id, grants),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
  return (
    <form
      aria-label="Granted"
      className="my-2 flex flex-wrap items-center gap-3 border border-rule bg-sheet px-4 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        say.mutate();
      }}
    >
      <span className="font-semibold">It may, here,</span>
      <Grants value={grants} onChange={setGrants} />
      <button className="button">Grant</button>
      <span className="text-soft">
        There, we may see {m.copies}
        {m.letsTake ? ", and take them" : ", and not take them"}
      </span>
      <Told problem={say.error} />
    </form>
  );
}
