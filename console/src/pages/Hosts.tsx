import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { Link, useSearchParams } from "react-router";
import {
  adoptDisk,
  checkHost,
  hostCopiesQuery,
  hostQuery,
  hostsQuery,
  letGoDisk,
  looseDisksQuery,
  restHost,
  setPool,
  survey,
  trashQuery,
} from "../api";
import type { Schemas } from "../api";
import { ago, count, counted, exact, hypervisorWords, size } from "../format";
import { Head } from "../parts/Head";
import { AddHost } from "../parts/AddHost";
import { FirstRun } from "../parts/FirstRun";
import { Search } from "../parts/Search";
import { State } from "../parts/State";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";
import { OperationSheet } from "./OperationSheet";
import { SwitchSheet } from "./SwitchSheet";

type Host = Schemas["Host"];

export function Hosts() {
  const [search, setSearch] = useSearchParams();
  const text = search.get("q") ?? "";
  const list = usePages(useInfiniteQuery(hostsQuery(text)));
  const { items } = list;
  const selected = search.get("host") ?? items[0]?.name ?? "";
  const look = useMutation({ mutationFn: survey });
  const set = useCallback(
    (change: Record<string, string>) => {
      const all = { q: text, host: selected, ...change };
      setSearch(Object.fromEntries(Object.entries(all).filter(([, v]) => v)), { replace: true });
    },
    [setSearch, text, selected],
  );
  const [adding, setAdding] = useState(false);
  const open = useCallback((h: Host) => set({ host: h.name }), [set]);
  return (
    <>
      <Head title="Hosts" says={counted(list.count, "host")}>
        {look.data && (
          <span className="text-soft">
            {look.data.flatMap((s) => s.changes).length === 0
              ? "Nothing has changed"
              : count(look.data.flatMap((s) => s.changes).length, "change")}
          </span>
        )}
        <button className="button" disabled={look.isPending} onClick={() => look.mutate()}>
          Survey all
        </button>
        {items.length > 0 && (
          <button className="button" aria-expanded={adding} onClick={() => setAdding(!adding)}>
            {adding ? "Add none" : "Add a host …"}
          </button>
        )}
        <Search hint="Name, or site=Northhead" value={text} onChange={(q) => set({ q })} />
      </Head>
      <Told problem={list.error ?? look.error} />
      {list.isSuccess && items.length === 0 && (
        <p className="mb-3 text-soft">{text ? "No host fits." : "No hosts yet."}</p>
      )}
      {!text && <FirstRun />}
      {adding && (
        <AddHost
          onAdded={(host) => {
            setAdding(false);
            set({ host });
          }}
        />
      )}
      <div className={items.length > 0 ? "grid min-h-0 grow gap-6 lg:grid-cols-[23rem_1fr]" : "hidden"}>
        <div className="flex max-h-64 min-h-64 flex-col border-rule lg:max-h-none lg:min-h-96 lg:border-r lg:pr-4">
          <Table
            items={items}
            height={44}
            label="Hosts"
            keyOf={(h) => h.name}
            selected={selected}
            onOpen={open}
            more={list.more}
            columns={[
              {
                width: "1fr",
                look: "min-w-0 pl-2",
                cell: (h) => (
                  <>
                    <span className="font-semibold">{h.name}</span>
                    <span className="block truncate text-soft">
                      {h.site} · {h.family} · {h.cpus} CPUs, {size(h.memoryBytes)}
                    </span>
                  </>
                ),
              },
              {
                look: "pr-2 text-right",
                cell: (h) => (
                  <>
                    <State is={h.state} />
                    <span className="block text-soft">{count(h.copies, "copy", "copies")}</span>
                  </>
                ),
              },
            ]}
          />
        </div>
        {selected && <Detail key={selected} name={selected} />}
      </div>
    </>
  );
}

function PoolBar({ pool, host, promised }: { pool: Schemas["Pool"]; host: string; promised: number }) {
  const part = (bytes: number) =>
    pool.totalBytes > 0 ? Math.min(100, Math.round((100 * bytes) / pool.totalBytes)) : 0;
  const used = part(pool.usedBytes);
  const grows = Math.min(100 - used, part(promised));
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: (body: { resting?: boolean; labels?: string[] }) => setPool(pool.id, body),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
  const [passing, setPassing] = useState<"hand-over" | "take-over">();
  const [managing, setManaging] = useState(false);
  const resting = pool.state === "resting";
  const ours = pool.state !== "free" && !pool.owner;
  const there = pool.state === "ready" || resting || pool.state === "read-only";
  return (
    <div className="border-t border-rule py-1.5">
      <div className="grid grid-cols-[7rem_minmax(6rem,1fr)_auto] items-center gap-x-3">
        <span className="font-semibold">{pool.name}</span>
        {there ? (
          <span
            className="flex h-3 border border-rule bg-sheet"
            role="img"
            aria-label={`${used} % used, ${grows} % promised to disks that may grow`}
          >
            <span className="block h-full bg-sea" style={{ width: `${used}%` }} />
            <span className="block h-full bg-chart" style={{ width: `${grows}%` }} />
          </span>
        ) : (
          <span />
        )}
        <button
          className="button"
          aria-label={`${managing ? "Close" : "Manage"} the pool ${pool.name}`}
          aria-expanded={managing}
          onClick={() => setManaging(!managing)}
        >
          {managing ? "Close" : "Manage"}
        </button>
      </div>
      <p className="mt-0.5 flex flex-wrap gap-x-4 pl-[7.75rem] text-soft">
        {pool.owner && <span>of the Unvora of {pool.owner}</span>}
        {!pool.owner && pool.state !== "ready" && <State is={pool.state} />}
        {there && (
          <>
            <span>{size(pool.usedBytes)} used</span>
            {promised > 0 && <span>{size(promised)} promised: its disks may grow by that</span>}
            <span>
              {size(pool.freeBytes)} free of {size(pool.totalBytes)}
            </span>
          </>
        )}
        {pool.rate ? <span>written at {size(pool.rate)}/s, measured</span> : null}
        {pool.removable && <span>removable</span>}
        {pool.labels.length > 0 && <span>labels {pool.labels.join(", ")}</span>}
        {pool.hosts.length > 1 && <span>also seen by {pool.hosts.filter((h) => h !== host).join(", ")}</span>}
      </p>
      {managing && (
        <div className="mt-1.5 flex flex-wrap items-center gap-2 pl-[7.75rem]">
          <label className="flex items-center gap-2">
            labels
            <input
              key={pool.labels.join()}
              aria-label={`Labels of ${pool.name}`}
              className="field w-44"
              placeholder="fast, archive …"
              defaultValue={pool.labels.join(", ")}
              onBlur={(e) => {
                const labels = e.target.value.split(/[\s,]+/).filter(Boolean);
                if (labels.join() !== pool.labels.join()) set.mutate({ labels });
              }}
            />
          </label>
          {ours ? (
            <>
              <button
                className="button"
                disabled={pool.state === "away"}
                onClick={() => set.mutate({ resting: !resting })}
              >
                {resting ? "Wake" : "Rest"}
              </button>
              <button className="button" disabled={pool.state === "away"} onClick={() => setPassing("hand-over")}>
                Hand over …
              </button>
            </>
          ) : (
            <button className="button" onClick={() => setPassing("take-over")}>
              Take over …
            </button>
          )}
          <span className="mono text-soft">{pool.path}</span>
        </div>
      )}
      {passing === "hand-over" && (
        <OperationSheet
          title={`Hand over the pool ${pool.name}`}
          request={{ operation: "hand-over", pool: pool.id }}
          onClose={() => setPassing(undefined)}
        />
      )}
      {passing === "take-over" && (
        <OperationSheet
          title={`Take over the pool ${pool.name}`}
          request={{ operation: "take-over", pool: pool.id, host }}
          onClose={() => setPassing(undefined)}
        />
      )}
      <Told problem={set.error} />
    </div>
  );
}

function Detail({ name }: { name: string }) {
  const { data: h, error } = useQuery(hostQuery(name));
  const copies = usePages(useInfiniteQuery(hostCopiesQuery(name)));
  const queries = useQueryClient();
  const rest = useMutation({
    mutationFn: (resting: boolean) => restHost(name, resting),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
  const check = useMutation({ mutationFn: () => checkHost(name) });
  const [adding, setAdding] = useState(false);
  const [dropping, setDropping] = useState("");
  const [emptying, setEmptying] = useState(false);
  const [powering, setPowering] = useState<"start" | "stop">();
  if (!h) return <Told problem={error} />;
  return (
    <section aria-label={h.name} className="flex min-w-0 flex-col">
      <h2 className="mb-1 flex flex-wrap items-baseline gap-x-3 gap-y-1.5 text-[16px] font-semibold">
        {h.name} <State is={h.state} />
        <span className="text-[14px] font-normal text-soft" title={exact(h.lastSeen)}>
          last seen {ago(h.lastSeen)} · agent at <span className="mono">{h.address}</span>
        </span>
        <span className="grow" />
        <button className="button text-[14px]" disabled={check.isPending} onClick={() => check.mutate()}>
          Check
        </button>
        {copies.items.some((c) => c.form === "registered") && (
          <button className="button text-[14px]" onClick={() => setEmptying(true)}>
            Empty it …
          </button>
        )}
        {copies.items.some((c) => c.form === "registered" && c.state === "running") && (
          <button className="button text-[14px]" onClick={() => setPowering("stop")}>
            Stop all …
          </button>
        )}
        {copies.items.some((c) => c.form === "registered" && c.state === "stopped") && (
          <button className="button text-[14px]" onClick={() => setPowering("start")}>
            Start all …
          </button>
        )}
        <button className="button text-[14px]" onClick={() => rest.mutate(h.state !== "resting")}>
          {h.state === "resting" ? "Wake" : "Let it rest"}
        </button>
      </h2>
      <Told problem={rest.error ?? check.error} />
      {check.data && (
        <ul className="my-2 border border-rule bg-sheet px-3 py-1.5" aria-label="Checks">
          {check.data.map((k) => (
            <li key={k.what} className="grid grid-cols-[7rem_1fr]">
              <span className={k.ok ? "text-beacon" : "text-wreck"}>
                {k.ok ? "✓" : "✕"} {k.what}
              </span>
              {k.says}
            </li>
          ))}
        </ul>
      )}
      {adding && <SwitchSheet host={h} onClose={() => setAdding(false)} />}
      {emptying && (
        <OperationSheet
          title={`Empty ${h.name}`}
          request={{ operation: "move", where: `host=${h.name}`, spread: true }}
          onClose={() => setEmptying(false)}
        />
      )}
      {powering && (
        <OperationSheet
          title={powering === "start" ? `Start all on ${h.name}` : `Stop all on ${h.name}`}
          request={{
            operation: powering,
            where: `host=${h.name} ${powering === "start" ? "state=stopped" : "state=running"}`,
          }}
          onClose={() => setPowering(undefined)}
        />
      )}
      {dropping && (
        <OperationSheet
          title={`Take the switch ${dropping} away`}
          request={{ operation: "switch-drop", host: h.name, name: dropping }}
          onClose={() => setDropping("")}
        />
      )}
      {((h.abilities?.can?.length ?? 0) > 0 || h.abilities?.noAcceleration) && (
        <p className="my-1 text-soft">
          <span className="font-semibold">Its hypervisor</span> {hypervisorWords(h.abilities?.can ?? [])}
          {h.abilities?.noAcceleration && (
            <span className="block text-buoy">Machines run slowly, emulated: {h.abilities.noAcceleration}</span>
          )}
        </p>
      )}
      <h3 className="mt-3 mb-1 font-semibold text-soft">Pools and shelves</h3>
      {h.pools.map((p) => (
        <PoolBar key={p.id} pool={p} host={h.name} promised={h.promised.find((x) => x.pool === p.id)?.bytes ?? 0} />
      ))}
      {h.shelves.map((s) => (
        <p key={s.id} className="grid grid-cols-[7rem_1fr] gap-3 py-1">
          <span className="font-semibold">{s.name}</span>
          <span className="text-soft">
            shelf for packages, <span className="mono">{s.path}</span>
          </span>
        </p>
      ))}
      <h3 className="mt-4 mb-1 font-semibold text-soft">Switches</h3>
      <ul className="grid gap-1.5" aria-label="Switches">
        {h.switches.map((s) => (
          <SwitchLine
            key={s.name}
            is={s}
            on={h.on.find((o) => o.switch === s.name)}
            onDrop={h.ports ? () => setDropping(s.name) : undefined}
          />
        ))}
      </ul>
      {h.ports && (
        <button className="button mt-2 self-start" onClick={() => setAdding(true)}>
          Make a switch …
        </button>
      )}
      <LooseDisks host={h.name} />
      {h.state !== "unreachable" && <Trash host={h.name} />}
      <h3 className="mt-4 mb-1 font-semibold text-soft">Copies</h3>
      <Table
        label="Copies"
        items={copies.items}
        keyOf={(c) => c.id}
        more={copies.more}
        moreText="More copies"
        columns={[
          {
            head: "Machine",
            cell: (c) => (
              <Link className="font-semibold text-sea" to={`/lineages/${c.lineage}?copy=${c.id}`}>
                {c.name}
              </Link>
            ),
          },
          { head: "State", cell: (c) => <State is={c.form === "registered" ? c.state : c.form} /> },
          { head: "Size", look: "mono pr-4 text-right", cell: (c) => size(c.sizeBytes) },
          { head: "Where", width: "minmax(0,1fr)", look: "mono truncate pr-4 text-soft", cell: (c) => c.path },
        ]}
      />
    </section>
  );
}

/** A switch as a drawing: the machines on it, the segment that it reaches, and the way out. */
function SwitchLine({ is: s, on, onDrop }: { is: Schemas["Switch"]; on?: Schemas["OnSwitch"]; onDrop?: () => void }) {
  const wire = <span aria-hidden className="h-px w-6 shrink-0 bg-ink" />;
  return (
    <li className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] items-center">
      <span className="flex flex-wrap justify-end gap-1">
        {on?.machines.map((m) => (
          <span key={m} className="border border-rule bg-sheet px-1.5">
            {m}
          </span>
        ))}
        {on && on.total > on.machines.length && (
          <span className="text-soft">and {on.total - on.machines.length} more</span>
        )}
        {!on && <span className="text-soft">no machine</span>}
      </span>
      <span className="flex flex-wrap items-center gap-y-1">
        {wire}
        <span className="border-2 border-sea bg-sheet px-2 py-0.5 font-semibold">{s.name}</span>
        {wire}
        <span className="bg-chart px-2 py-0.5">
          {s.segment || "no segment"}
          {s.vlan > 0 && `, VLAN ${s.vlan}`}
        </span>
        {s.uplink && wire}
        <span className={s.uplink ? "" : "ml-2 text-soft"}>
          {s.uplink ? `out by ${s.uplink}${s.tagged ? ", tagged" : ""}` : "┤ no way out"}
        </span>
        {s.address && <span className="mono ml-3 text-soft">{s.address}</span>}
        {onDrop && (
          <button className="ml-3 text-sea hover:underline" aria-label={`Drop the switch ${s.name}`} onClick={onDrop}>
            drop
          </button>
        )}
      </span>
    </li>
  );
}

/** What was taken away at a host, and can be had back for a while. */
function Trash({ host }: { host: string }) {
  const { data, error } = useQuery(trashQuery(host));
  const [back, setBack] = useState("");
  if (!error && !data?.items.length) return null;
  return (
    <>
      <h3 className="mt-4 mb-1 font-semibold text-soft">Trash</h3>
      <Told problem={error} />
      {back && <OperationSheet request={{ operation: "restore", trash: back }} onClose={() => setBack("")} />}
      <Table
        label="Trash"
        items={data?.items ?? []}
        keyOf={(t) => t.id}
        columns={[
          { head: "What", look: "pr-4 font-semibold", cell: (t) => t.name },
          { head: "Takes", look: "mono pr-4 text-right", cell: (t) => size(t.bytes) },
          { head: "Taken away", cell: (t) => <span title={exact(t.takenAt)}>{ago(t.takenAt)}</span> },
          { head: "Kept until", cell: (t) => exact(t.until) },
          { head: "Lay at", width: "minmax(0,1fr)", look: "mono truncate pr-4 text-soft", cell: (t) => t.was },
          {
            head: "",
            cell: (t) => (
              <button
                className="whitespace-nowrap text-sea hover:underline"
                aria-label={`Restore ${t.name}`}
                onClick={() => setBack(t.id)}
              >
                Restore …
              </button>
            ),
          },
        ]}
      />
    </>
  );
}

/** Disks and media of the inventory that no machine of the host names. */
function LooseDisks({ host }: { host: string }) {
  const queries = useQueryClient();
  const { data } = useQuery(looseDisksQuery(host));
  const [file, setFile] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: ["hosts", "disks", host] });
  const adopt = useMutation({
    mutationFn: () => adoptDisk(host, file),
    onSuccess: async () => {
      setFile("");
      await again();
    },
  });
  const letGo = useMutation({ mutationFn: letGoDisk, onSuccess: again });
  return (
    <>
      <h3 className="mt-4 mb-1 font-semibold text-soft">Loose disks and media</h3>
      <ul className="flex flex-wrap items-center gap-2">
        {data?.items.map((d) => (
          <li key={d.id} className="border border-rule bg-sheet px-2 py-0.5" title={d.path}>
            <span className="font-semibold">{d.name}</span>{" "}
            <span className="text-soft">
              {d.kind === "media" ? "medium" : d.format.toUpperCase()}, {size(d.virtualBytes)}
              {d.system && `, ${d.system}`}
            </span>{" "}
            <button className="ml-2 text-sea hover:underline" onClick={() => letGo.mutate(d.id)}>
              let go
            </button>
          </li>
        ))}
        <li>
          <form
            className="flex gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              adopt.mutate();
            }}
          >
            <input
              aria-label="Disk to adopt"
              className="field w-64"
              placeholder="POOL/PATH of an image"
              value={file}
              onChange={(e) => setFile(e.target.value)}
            />
            <button className="button" disabled={!file}>
              Adopt
            </button>
          </form>
        </li>
      </ul>
      <Told problem={adopt.error ?? letGo.error} />
    </>
  );
}
