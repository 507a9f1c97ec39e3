import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { copyQuery, folderQuery, lineageQuery } from "../api";
import { AttachSheet } from "./AttachSheet";
import { Head } from "../parts/Head";
import { Console } from "../parts/Console";
import { Compared, Happened, Recognised, Tracking } from "../parts/Known";
import { Marks } from "../parts/Marks";
import type { Copy, Asking, Schemas } from "../api";
import { ago, count, exact, identityWords, lastPart, madeWords, managed, place, size } from "../format";
import { FamilyTree } from "../parts/FamilyTree";
import { Id } from "../parts/Id";
import { Snapshots } from "../parts/Snapshots";
import { State } from "../parts/State";
import { Told } from "../parts/Told";
import { ChangeSheet } from "./ChangeSheet";
import { CloneSheet } from "./CloneSheet";
import { ExportSheet } from "./ExportSheet";
import { FetchSheet } from "./FetchSheet";
import { MoveSheet } from "./MoveSheet";
import { ImportSheet } from "./ImportSheet";
import { OperationSheet } from "./OperationSheet";
import { RegisterSheet } from "./RegisterSheet";

type Plain = "start" | "stop" | "pause" | "suspend" | "renew" | "delist" | "detach" | "put-back";
type Sheet = {
  kind:
    "export" | "clone" | "move" | "import" | "register" | "change" | "attach" | "fetch" | "first-start-done" | Plain;
  copy: Copy;
  disk?: string;
};
const plains: string[] = [
  "start",
  "stop",
  "pause",
  "suspend",
  "renew",
  "delist",
  "detach",
  "put-back",
] satisfies Plain[];
const firstStartDisc = "first-start.iso";

export function LineagePage() {
  const { name = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const [sheet, setSheet] = useState<Sheet>();
  const lineage = useQuery(lineageQuery(name));
  const l = lineage.data;
  const there = l?.copies.filter((c) => !c.goneAt) ?? [];
  const selected = search.get("copy") ?? there[0]?.id ?? "";
  const close = () => setSheet(undefined);
  const act = (kind: Sheet["kind"], copy: Copy, disk?: string) => {
    setSearch({ copy: copy.id }, { replace: true }); // whatever comes of it, this copy stays the selected one
    setSheet({ kind, copy, disk });
  };
  const plain = sheet && plains.includes(sheet.kind) ? (sheet.kind as Plain) : undefined;
  const request = (operation: Plain, copy: Copy, disk = ""): Asking => {
    const copies = [copy.id];
    switch (operation) {
      case "detach":
        return { operation, copies, disk };
      default:
        return { operation, copies };
    }
  };
  return (
    <>
      <Head
        title={l?.name ?? "…"}
        under={{ to: "/lineages", name: "Lineages" }}
        says={l && count(there.length, "copy", "copies")}
      >
        {l && <Marks lineage={l.id} />}
      </Head>
      <Told problem={lineage.error} />
      {l && (
        <FamilyTree copies={l.copies} selected={selected} onSelect={(copy) => setSearch({ copy }, { replace: true })} />
      )}
      {selected && <Detail id={selected} others={l?.copies ?? []} onAct={act} />}
      {sheet?.kind === "export" && <ExportSheet copies={[sheet.copy]} onClose={close} />}
      {sheet?.kind === "clone" && <CloneSheet copy={sheet.copy} onClose={close} />}
      {sheet?.kind === "move" && <MoveSheet copies={[sheet.copy]} onClose={close} />}
      {sheet?.kind === "import" && <ImportSheet shelved={sheet.copy} onClose={close} />}
      {sheet?.kind === "register" && <RegisterSheet copy={sheet.copy} onClose={close} />}
      {sheet?.kind === "fetch" && <FetchSheet copies={[sheet.copy]} onClose={close} />}
      {sheet?.kind === "change" && <ChangeSheet copy={sheet.copy} onClose={close} />}
      {sheet?.kind === "attach" && <AttachSheet copy={sheet.copy} onClose={close} />}
      {sheet?.kind === "first-start-done" && (
        <OperationSheet
          title="Put away what it was told at its first start"
          request={{ operation: "change", copies: [sheet.copy.id], firstStartDone: true }}
          onClose={close}
        />
      )}
      {plain && <OperationSheet request={request(plain, sheet!.copy, sheet!.disk)} onClose={close} />}
    </>
  );
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="grid grid-cols-[9rem_1fr] border-b border-rule py-1">
      <dt className="text-soft">{name}</dt>
      <dd>{children}</dd>
    </div>
  );
}

/** A disk's chain, top layer first, with what is wrong with it. */
function Layers({ disk }: { disk?: Schemas["FolderDisk"] }) {
  if (!disk) return null;
  const problem = disk.problem || disk.faults[0]?.message;
  return (
    <>
      {disk.chain.length > 1 && (
        <ol className="mt-0.5 flex flex-wrap items-center gap-1" aria-label={`Chain of ${disk.id}`}>
          {disk.chain.map((path, n) => (
            <li key={path} className="flex items-center gap-1">
              {n > 0 && <span className="text-soft">on</span>}
              <span className="mono border border-rule bg-sheet px-1" title={path}>
                {lastPart(path)}
              </span>
            </li>
          ))}
        </ol>
      )}
      {problem && <span className="block [overflow-wrap:anywhere] text-wreck">✕ {problem}</span>}
      {disk.layersOf.length > 0 && (
        <span className="block text-soft">layers of {disk.layersOf.join(", ")} rest on it</span>
      )}
      {disk.guest?.system && <span className="block text-soft">{disk.guest.system} on it</span>}
    </>
  );
}

function Detail({
  id,
  others,
  onAct,
}: {
  id: string;
  others: Copy[];
  onAct: (kind: Sheet["kind"], copy: Copy, disk?: string) => void;
}) {
  const { data: c, error } = useQuery(copyQuery(id));
  const ours = c !== undefined && c.form === "registered" && !c.goneAt && !managed(c);
  const lies = c && !c.goneAt && !managed(c) && (c.form === "registered" || c.form === "stray");
  const folder = useQuery(folderQuery(lies ? c.host : "", lies ? c.path : ""));
  if (!c) return <Told problem={error} />;
  const m = c.machine;
  return (
    <section className="mt-4" aria-label="Copy">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-[16px] font-semibold">{place(c)}</h2>
        <State is={c.goneAt ? "gone" : c.form === "registered" ? c.state : c.form} />
        {c.stateWhy && !c.goneAt && <span className="text-wreck">{c.stateWhy}</span>}
        {ours && !c.tracked && <span className="text-buoy">left alone</span>}
        <span className="ml-auto" />
        {managed(c) && !c.goneAt && (
          <button className="button" onClick={() => onAct("fetch", c)}>
            Import …
          </button>
        )}
        {ours && others.some((o) => managed(o)) && (
          <button className="button" onClick={() => onAct("put-back", c)}>
            Put back …
          </button>
        )}
        {ours && (
          <>
            {c.state !== "running" && (
              <button className="button" onClick={() => onAct("start", c)}>
                {c.state === "paused" || c.state === "suspended" ? "Go on …" : "Start …"}
              </button>
            )}
            {c.state !== "stopped" && (
              <button className="button" onClick={() => onAct("stop", c)}>
                {c.state === "suspended" ? "Drop state …" : "Stop …"}
              </button>
            )}
            {c.state === "running" && (
              <button className="button" onClick={() => onAct("pause", c)}>
                Pause …
              </button>
            )}
            {(c.state === "running" || c.state === "paused") && (
              <button className="button" onClick={() => onAct("suspend", c)}>
                Suspend …
              </button>
            )}
            <button className="button" onClick={() => onAct("export", c)}>
              Export …
            </button>
            <button className="button" onClick={() => onAct("clone", c)}>
              Clone …
            </button>
            <button className="button" onClick={() => onAct("move", c)}>
              Move …
            </button>
            <button className="button" onClick={() => onAct("change", c)}>
              Change …
            </button>
            <button className="button" onClick={() => onAct("attach", c)}>
              Attach …
            </button>
            <button className="button" onClick={() => onAct("renew", c)}>
              Renew …
            </button>
          </>
        )}
        {c.form === "stray" && !c.goneAt && (
          <button className="button" onClick={() => onAct("register", c)}>
            Register …
          </button>
        )}
        {ours && <Tracking copy={c} />}
        {(ours || c.form === "hollow") && !c.goneAt && (
          <button className="button" onClick={() => onAct("delist", c)}>
            Delist …
          </button>
        )}
        {c.form === "package" && (c.shelf || c.pool) && !c.goneAt && (
          <button className="button" onClick={() => onAct("import", c)}>
            Bring in …
          </button>
        )}
      </div>
      <div className="grid grid-cols-2 gap-x-10">
        <dl>
          <Row name="Made">
            <span title={exact(c.madeAt)}>
              {madeWords(c)} {ago(c.madeAt)}
              {c.madeUser && ` by ${c.madeUser}`}
            </span>
          </Row>
          <Row name="Identity">{identityWords(c)}</Row>
          <Row name="Last seen">
            <span title={exact(c.lastSeen)}>{ago(c.lastSeen)}</span>
          </Row>
          <Row name="Size">{size(c.sizeBytes)}</Row>
          <Row name="Path">
            <Id value={c.path} />
          </Row>
          {c.addresses.length > 0 && <Row name="Addresses">{c.addresses.join(", ")}, seen in the guest</Row>}
          {c.owner && <Row name="Owner">{c.owner}</Row>}
          <Row name="Machine UUID">
            <Id value={c.uuid} />
          </Row>
        </dl>
        {m && (
          <dl>
            <Row name="Hardware">
              {count(m.cpus, "CPU")}, {size(m.memoryBytes)}, {m.firmware}
            </Row>
            <Row name="Guest">{m.guest || "–"}</Row>
            {(m.startOrder ?? 0) > 0 && <Row name="With its host">starts as number {m.startOrder}</Row>}
            {m.devices?.some((d) => d.file === firstStartDisc) && (
              <Row name="First start">
                what it is told lies in a drive
                {ours && (
                  <button className="ml-2 text-sea hover:underline" onClick={() => onAct("first-start-done", c)}>
                    It has read it …
                  </button>
                )}
              </Row>
            )}
            {m.disks?.map((d) => (
              <Row key={d.id} name={`Disk ${d.id}`}>
                {size(d.virtualBytes)}
                {!managed(c) && ` as ${d.format.toUpperCase()}, takes ${size(d.fileBytes)}`}
                {ours && (
                  <button className="ml-2 text-sea hover:underline" onClick={() => onAct("detach", c, d.id)}>
                    Detach …
                  </button>
                )}
                <Layers disk={folder.data?.disks.find((f) => f.id === d.id)} />
              </Row>
            ))}
            {m.nics?.map((n) => (
              <Row key={n.name} name={n.name}>
                {n.network || "unplugged"} · <Id value={n.mac} />
              </Row>
            ))}
          </dl>
        )}
      </div>
      {ours && <Console key={c.id} copy={c} />}
      {ours && <Snapshots key={`snapshots ${c.id}`} copy={c} />}
      <Recognised copy={c} others={others} />
      <Compared key={c.id} copy={c} others={others} />
      <Happened copy={c} />
    </section>
  );
}
