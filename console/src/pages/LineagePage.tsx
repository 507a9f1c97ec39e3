import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { copyQuery, lineageQuery } from "../api";
import type { Copy, Request_ } from "../api";
import { ago, count, exact, identityWords, place, size } from "../format";
import { FamilyTree } from "../parts/FamilyTree";
import { Id } from "../parts/Id";
import { State } from "../parts/State";
import { Told } from "../parts/Told";
import { ExportSheet } from "./ExportSheet";
import { ImportSheet } from "./ImportSheet";
import { OperationSheet } from "./OperationSheet";

type Sheet = { kind: "export" | "import" | "start" | "stop"; copy: Copy };

export function LineagePage() {
  const { name = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const [sheet, setSheet] = useState<Sheet>();
  const lineage = useQuery(lineageQuery(name));
  const l = lineage.data;
  const there = l?.copies.filter((c) => !c.goneAt) ?? [];
  const selected = search.get("copy") ?? there[0]?.id ?? "";
  const close = () => setSheet(undefined);
  const power = (s: Sheet): Request_ => ({ operation: s.kind as "start" | "stop", copies: [s.copy.id] });
  return (
    <>
      <div className="mb-3 flex items-baseline gap-3">
        <Link to="/lineages" className="text-sea">
          Lineages
        </Link>
        <span className="text-soft">›</span>
        <h1 className="text-[20px] font-semibold">{l?.name ?? "…"}</h1>
        {l && <span className="text-soft">{count(there.length, "copy", "copies")}</span>}
      </div>
      <Told problem={lineage.error} />
      {l && (
        <FamilyTree copies={l.copies} selected={selected} onSelect={(copy) => setSearch({ copy }, { replace: true })} />
      )}
      {selected && <Detail id={selected} onAct={(kind, copy) => setSheet({ kind, copy })} />}
      {sheet?.kind === "export" && <ExportSheet copy={sheet.copy} onClose={close} />}
      {sheet?.kind === "import" && <ImportSheet shelved={sheet.copy} onClose={close} />}
      {(sheet?.kind === "start" || sheet?.kind === "stop") && (
        <OperationSheet
          title={`${sheet.kind === "start" ? "Start" : "Stop"} ${place(sheet.copy)}`}
          request={power(sheet)}
          onClose={close}
        />
      )}
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

function Detail({ id, onAct }: { id: string; onAct: (kind: Sheet["kind"], copy: Copy) => void }) {
  const { data: c, error } = useQuery(copyQuery(id));
  if (!c) return <Told problem={error} />;
  const m = c.machine;
  return (
    <section className="mt-4" aria-label="Copy">
      <div className="mb-2 flex items-center gap-4">
        <h2 className="text-[16px] font-semibold">{place(c)}</h2>
        <State is={c.goneAt ? "gone" : c.form === "registered" ? c.state : c.form} />
        <span className="ml-auto" />
        {c.form === "registered" && !c.goneAt && (
          <>
            <button className="button" onClick={() => onAct(c.state === "running" ? "stop" : "start", c)}>
              {c.state === "running" ? "Stop …" : "Start …"}
            </button>
            <button className="button" onClick={() => onAct("export", c)}>
              Export …
            </button>
          </>
        )}
        {c.form === "package" && c.shelf && !c.goneAt && (
          <button className="button" onClick={() => onAct("import", c)}>
            Bring in …
          </button>
        )}
      </div>
      <div className="grid grid-cols-2 gap-x-10">
        <dl>
          <Row name="Made">
            <span title={exact(c.madeAt)}>
              {c.madeBy === "survey" ? (c.parent ? "copied by hand, found" : "found") : c.madeBy} {ago(c.madeAt)}
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
          <Row name="Machine UUID">
            <Id value={c.uuid} />
          </Row>
        </dl>
        {m && (
          <dl>
            <Row name="Hardware">
              {m.cpus} CPUs, {size(m.memoryBytes)}, {m.firmware}
            </Row>
            <Row name="Guest">{m.guest || "–"}</Row>
            {m.disks?.map((d) => (
              <Row key={d.id} name={`Disk ${d.id}`}>
                {size(d.virtualBytes)} as {d.format.toUpperCase()}, takes {size(d.fileBytes)}
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
    </section>
  );
}
