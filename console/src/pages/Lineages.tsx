import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { lineagesQuery } from "../api";
import type { Copy, Lineage } from "../api";
import { counted, exact, place } from "../format";
import { Head } from "../parts/Head";
import { FirstRun } from "../parts/FirstRun";
import { Search } from "../parts/Search";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";

const signs: Record<string, string> = { running: "text-beacon", stray: "text-buoy", hollow: "text-wreck" };

const where = (c: Copy) => (c.form === "package" ? c.shelf || c.pool || "a file" : c.host);

/** Copies that are at one place and alike, in the order in which the first of each came. */
function alike(copies: Copy[]): Copy[][] {
  const groups = new Map<string, Copy[]>();
  for (const c of copies) {
    const key = [where(c), c.form, c.form === "registered" ? c.state : ""].join("/");
    groups.set(key, [...(groups.get(key) ?? []), c]);
  }
  return [...groups.values()];
}

/** Copies as a small flag: where they are, how they are, and how many. */
function Flag({ copies }: { copies: Copy[] }) {
  const copy = copies[0]!;
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
  return (
    <span
      className="inline-flex shrink-0 items-center gap-1 border border-rule bg-sheet px-1.5 whitespace-nowrap"
      title={`${copies.slice(0, 12).map(place).join("\n")}\n${copy.form}, ${copy.state}\nmade ${exact(copy.madeAt)}`}
    >
      <span className={signs[copy.form] ?? signs[copy.state] ?? "text-soft"}>{sign}</span>
      {where(copy)}
      {copies.length > 1 && <span className="mono text-soft">× {copies.length}</span>}
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
      <Head title="Lineages" says={`${counted(total, "machine")} and where their copies live`}>
        <Search
          hint="Name, or host=gannet"
          value={text}
          onChange={(q) => setSearch(q ? { q } : {}, { replace: true })}
        />
      </Head>
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
                {alike(l.copies).map((same) => (
                  <Flag key={same[0]!.id} copies={same} />
                ))}
                {l.total > l.copies.length && (
                  <span className="whitespace-nowrap text-soft">and {l.total - l.copies.length} more</span>
                )}
              </>
            ),
          },
        ]}
      />
    </>
  );
}
