import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { allCopies, copiesQuery, track } from "../api";
import type { Asking, Copy } from "../api";
import { csv, save } from "../csv";
import { ago, count, counted, exact, madeWords, managed, place, size } from "../format";
import { FirstRun } from "../parts/FirstRun";
import { Head } from "../parts/Head";
import { FilterField } from "../parts/FilterField";
import { State } from "../parts/State";
import { Table } from "../parts/Table";
import type { Column } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";
import { ChangeSeveral } from "./ChangeSeveral";
import { CloneSheet } from "./CloneSheet";
import { ExportSheet } from "./ExportSheet";
import { MoveSheet } from "./MoveSheet";
import { OperationSheet } from "./OperationSheet";
import { SnapshotSheet } from "./SnapshotSheet";

type Shown = Column<Copy> & { name: string; text: (c: Copy) => string };

const plain = (name: string, width: string, text: (c: Copy) => string, mono = false): Shown => ({
  name,
  head: name,
  width,
  text,
  look: `truncate pr-4 ${mono ? "mono" : ""}`,
  cell: (c) => <span title={text(c)}>{text(c)}</span>,
});

/** All columns that a copy can be shown with, by their place in the address. */
const columns: Record<string, Shown> = {
  form: { ...plain("Form", "7rem", (c) => c.form), cell: (c) => <State is={c.form} /> },
  state: {
    ...plain("State", "7rem", (c) => c.state),
    cell: (c) => <State is={c.form === "registered" ? c.state : c.form} />,
  },
  where: plain("Where", "minmax(10rem,1fr)", place),
  pool: plain("Pool", "6rem", (c) => c.pool),
  size: plain("Size", "6rem", (c) => size(c.sizeBytes), true),
  made: {
    ...plain("Made", "9rem", (c) => `${madeWords(c)} ${exact(c.madeAt)}`),
    cell: (c) => (
      <span title={exact(c.madeAt)}>
        {madeWords(c)} {ago(c.madeAt)}
      </span>
    ),
  },
  macs: plain("MACs", "minmax(9rem,13rem)", (c) => c.macs.join(" "), true),
  addresses: plain("Addresses", "9rem", (c) => c.addresses.join(" "), true),
  uuid: plain("Machine UUID", "19rem", (c) => c.uuid, true),
  owner: plain("Owner", "7rem", (c) => c.owner ?? ""),
  tracked: plain("Looked after", "7rem", (c) => (c.tracked ? "yes" : "no")),
  seen: {
    ...plain("Last seen", "7rem", (c) => exact(c.lastSeen)),
    cell: (c) => <span title={exact(c.lastSeen)}>{ago(c.lastSeen)}</span>,
  },
};
const usual = "state,where,size,made,macs";
const usually: Record<string, string> = { cols: usual, order: "name" };
const sorted = ["made", "size"]; // columns that the list can be sorted by, besides the name

type Doing = "export" | "clone" | "move" | "snapshot" | "change" | "start" | "stop" | "renew" | "delist";

/** What is asked for of several copies that needs nothing but answers. */
function requestOf(doing: Doing, copies: string[]): Asking | undefined {
  switch (doing) {
    case "renew":
    case "start":
    case "stop":
    case "delist":
      return { operation: doing, copies };
    default:
      return undefined;
  }
}

/** Every copy as a list: filtered, chosen, and worked on together. */
export function Copies() {
  const [search, setSearch] = useSearchParams();
  const text = search.get("q") ?? "";
  const order = search.get("order") ?? "name";
  const cols = (search.get("cols") ?? usual).split(",").filter((c) => c in columns);
  const navigate = useNavigate();
  const list = usePages(useInfiniteQuery(copiesQuery(text, order)));
  const [chosen, setChosen] = useState<Map<string, Copy>>(new Map());
  const [doing, setDoing] = useState<Doing>();
  const set = useCallback(
    (more: Record<string, string>) =>
      setSearch(
        (old) => {
          const was = (key: string) => old.get(key) ?? "";
          const all = { q: was("q"), cols: was("cols"), order: was("order"), ...more };
          return Object.fromEntries(Object.entries(all).filter(([k, v]) => v && usually[k] !== v));
        },
        { replace: true },
      ),
    [setSearch],
  );
  const filter = useCallback((q: string) => set({ q }), [set]);
  const open = useCallback((c: Copy) => void navigate(`/lineages/${c.lineage}?copy=${c.id}`), [navigate]);
  const choose = (keys: string[], on: boolean) =>
    setChosen((old) => {
      const now = new Map(old);
      for (const c of list.items) {
        if (!keys.includes(c.id)) continue;
        if (on) now.set(c.id, c);
        else now.delete(c.id);
      }
      return now;
    });
  const saved = useMutation({
    mutationFn: () => allCopies(text, order),
    onSuccess: (all) =>
      save(
        "copies.csv",
        csv([
          ["Copy", ...cols.map((c) => columns[c]!.name), "id"],
          ...all.map((k) => [k.name, ...cols.map((c) => columns[c]!.text(k)), k.id]),
        ]),
        "text/csv",
      ),
  });
  const copies = [...chosen.values()];
  const close = () => {
    setDoing(undefined);
    setChosen(new Map());
  };
  const request = doing && requestOf(doing, [...chosen.keys()]);
  return (
    <>
      <Head title="Copies" says={counted(list.count, "copy", "copies")}>
        <FilterField value={text} onChange={filter} />
        <ColumnChoice cols={cols} onChange={(c) => set({ cols: c.join(",") })} />
        <button className="button" disabled={saved.isPending} onClick={() => saved.mutate()}>
          {saved.isPending ? "Reading all …" : "Save as CSV"}
        </button>
      </Head>
      <Told problem={list.error ?? saved.error} />
      <Chosen copies={copies} onDo={setDoing} onClear={() => setChosen(new Map())} />
      {list.isSuccess && list.items.length === 0 && (
        <p className="mb-3 text-soft">{text ? "No copy fits." : "Nothing is known yet."}</p>
      )}
      {!text && <FirstRun />}
      <Table
        items={list.items}
        height={30}
        least={`${16 + 8 * cols.length}rem`}
        label="Copies"
        keyOf={(c) => c.id}
        onOpen={open}
        chosen={new Set(chosen.keys())}
        onChoose={choose}
        more={list.more}
        columns={[
          {
            head: <Sort by="name" says="Copy" order={order} onChange={(o) => set({ order: o })} />,
            width: "minmax(9rem,14rem)",
            look: "truncate pr-4",
            cell: (c) => (
              <Link
                to={`/lineages/${c.lineage}?copy=${c.id}`}
                className="font-semibold text-sea"
                onClick={(e) => e.stopPropagation()}
              >
                {c.name}
              </Link>
            ),
          },
          ...cols.map((c) =>
            sorted.includes(c)
              ? {
                  ...columns[c]!,
                  head: <Sort by={c} says={columns[c]!.name} order={order} onChange={(o) => set({ order: o })} />,
                }
              : columns[c]!,
          ),
        ]}
      />
      {doing === "export" && <ExportSheet copies={copies} onClose={close} />}
      {doing === "move" && <MoveSheet copies={copies} onClose={close} />}
      {doing === "clone" && copies[0] && <CloneSheet copy={copies[0]} onClose={close} />}
      {doing === "snapshot" && <SnapshotSheet copies={copies} onClose={close} />}
      {doing === "change" && <ChangeSeveral copies={copies} onClose={close} />}
      {request && <OperationSheet request={request} onClose={close} />}
    </>
  );
}

/** What can be done with the copies that are chosen. */
function Chosen({ copies, onDo, onClear }: { copies: Copy[]; onDo: (doing: Doing) => void; onClear: () => void }) {
  const follow = useMutation({
    mutationFn: (tracked: boolean) =>
      track(
        copies.map((c) => c.id),
        tracked,
      ),
    onSuccess: onClear,
  });
  if (copies.length === 0) return null;
  const ours = copies.every((c) => c.form === "registered" && !managed(c));
  const does: [Doing, string, boolean][] = [
    ["start", "Start …", ours && copies.some((c) => c.state !== "running")],
    ["stop", "Stop …", ours && copies.some((c) => c.state !== "stopped")],
    ["export", "Export …", ours],
    ["clone", "Clone …", ours && copies.length === 1],
    ["move", "Move …", ours],
    ["snapshot", "Snapshot …", ours],
    ["change", "Change …", ours],
    ["renew", "Renew …", ours],
    ["delist", "Delist …", copies.every((c) => ["registered", "hollow"].includes(c.form) && !managed(c))],
  ];
  const unable = does.every(([, , can]) => !can);
  return (
    <div
      className="mb-2 flex flex-wrap items-center gap-2 border border-rule bg-chart px-3 py-1.5"
      role="toolbar"
      aria-label="With the chosen copies"
    >
      <span className="font-semibold">{count(copies.length, "copy", "copies")} chosen</span>
      {does.map(
        ([doing, says, can]) =>
          can && (
            <button key={doing} className="button" onClick={() => onDo(doing)}>
              {says}
            </button>
          ),
      )}
      {copies.length === 2 && copies.every((c) => c.form !== "package") && (
        <Link className="button" to={`/compare?a=${copies[0]!.id}&b=${copies[1]!.id}`}>
          Compare
        </Link>
      )}
      {ours && (
        <>
          {copies.some((c) => !c.tracked) && (
            <button className="button" onClick={() => follow.mutate(true)}>
              Look after
            </button>
          )}
          {copies.some((c) => c.tracked) && (
            <button className="button" onClick={() => follow.mutate(false)}>
              Leave alone
            </button>
          )}
        </>
      )}
      {unable && <span className="text-soft">Of these, each is worked on from its own page.</span>}
      <button className="ml-auto text-sea hover:underline" onClick={onClear}>
        Choose none
      </button>
      <Told problem={follow.error} />
    </div>
  );
}

/** The head of a column that the list can be sorted by: pressed again, the other way round. */
function Sort(p: { by: string; says: string; order: string; onChange: (order: string) => void }) {
  const down = p.order === `-${p.by}`;
  const here = down || p.order === p.by;
  const first = p.by === "name" ? p.by : `-${p.by}`; // the latest, and the largest, are what is looked for
  return (
    <button
      className="font-semibold hover:text-sea"
      title={`Sort by ${p.says.toLowerCase()}`}
      onClick={() => p.onChange(here ? (down ? p.by : `-${p.by}`) : first)}
    >
      {p.says}
      {here && <span aria-label={down ? "falling" : "rising"}> {down ? "↓" : "↑"}</span>}
    </button>
  );
}

/** Which columns are shown. */
function ColumnChoice({ cols, onChange }: { cols: string[]; onChange: (cols: string[]) => void }) {
  return (
    <details className="relative">
      <summary className="button list-none">Columns</summary>
      <ul className="absolute right-0 z-20 mt-1 w-44 border border-rule bg-sheet px-3 py-2">
        {Object.entries(columns).map(([key, c]) => (
          <li key={key}>
            <label className="flex items-center gap-2 py-0.5">
              <input
                type="checkbox"
                checked={cols.includes(key)}
                onChange={(e) =>
                  onChange(Object.keys(columns).filter((k) => (k === key ? e.target.checked : cols.includes(k))))
                }
              />
              {c.name}
            </label>
          </li>
        ))}
      </ul>
    </details>
  );
}
