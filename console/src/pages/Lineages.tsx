import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { lineagesQuery } from "../api";
import type { Copy, Lineage } from "../api";
import { count, exact, place } from "../format";
import { FirstRun } from "../parts/FirstRun";
import { Search } from "../parts/Search";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";

const signs: Record<string, string> = { running: "text-beacon", stray: "text-buoy", hollow: "text-wreck" };

/** A copy as a small flag: where it is, and how it is. */
function Flag({ copy }: { copy: Copy }) {
  const sign =
    copy.form === "package"
      ? "▣"
      : copy.form === "stray"
        ? "◇"
        : copy.form === "hollow"
          ? "✕"
          : copy.state === "running"
            ? "●"
            : "○";
  const where = copy.form === "package" ? copy.shelf || "a file" : copy.host;
  return (
    <span
      className="inline-flex items-center gap-1 border border-rule bg-sheet px-1.5"
      title={`${place(copy)}\n${copy.form}, ${copy.state}\nmade ${exact(copy.madeAt)}`}
    >
      <span className={signs[copy.form] ?? signs[copy.state] ?? "text-soft"}>{sign}</span>
      {where}
      <span className="sr-only">
        {copy.form}, {copy.state}
      </span>
    </span>
  );
}

export function Lineages() {
  const [search, setSearch] = useSearchParams();
  const text = search.get("q") ?? "";
  const navigate = useNavigate();
  const list = usePages(useInfiniteQuery(lineagesQuery(text)));
  const { items, count: total } = list;
  const open = useCallback((l: Lineage) => void navigate(`/lineages/${l.id}`), [navigate]);
  return (
    <>
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-[20px] font-semibold">Lineages</h1>
        <span className="text-soft">
          {total > 10000 ? "10,000+" : count(total, "machine")} and where their copies live
        </span>
        <span className="ml-auto" />
        <Search
          hint="Name, or host=gannet"
          value={text}
          onChange={(q) => setSearch(q ? { q } : {}, { replace: true })}
        />
      </div>
      <Told problem={list.error} />
      {list.isSuccess && items.length === 0 && (
        <p className="mb-3 text-soft">{text ? "No lineage fits." : "Nothing is known yet."}</p>
      )}
      {!text && <FirstRun />}
      <Table
        items={items}
        height={34}
        label="Lineages"
        keyOf={(l) => l.id}
        onOpen={open}
        more={list.more}
        columns={[
          {
            head: "Machine",
            width: "16rem",
            cell: (l) => (
              <Link to={`/lineages/${l.id}`} className="font-semibold text-sea" onClick={(e) => e.stopPropagation()}>
                {l.name}
              </Link>
            ),
          },
          { head: "Copies", width: "6rem", look: "mono", cell: (l) => l.total },
          {
            head: "Where they live",
            width: "1fr",
            look: "flex gap-1.5 overflow-hidden",
            cell: (l) => (
              <>
                {l.copies.map((c) => (
                  <Flag key={c.id} copy={c} />
                ))}
                {l.total > l.copies.length && <span className="text-soft">and {l.total - l.copies.length} more</span>}
              </>
            ),
          },
        ]}
      />
    </>
  );
}
