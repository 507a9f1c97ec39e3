import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { packagesQuery, shelvesQuery } from "../api";
import type { Copy } from "../api";
import { ago, count, exact, place, size } from "../format";
import { Rows } from "../parts/Rows";
import { Search } from "../parts/Search";
import { Told } from "../parts/Told";
import { ImportSheet } from "./ImportSheet";

/** The packages on the shelves, and the way in for one from this computer. */
export function Packages({ onFile }: { onFile: (file: File) => void }) {
  const [search, setSearch] = useSearchParams();
  const text = search.get("q") ?? "";
  const [chosen, setChosen] = useState<Copy>();
  const list = useInfiniteQuery(packagesQuery(text));
  const shelves = useQuery(shelvesQuery);
  const picker = useRef<HTMLInputElement>(null);
  const items = list.data?.pages.flatMap((p) => p.items) ?? [];
  const { fetchNextPage, hasNextPage, isFetching } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetching) void fetchNextPage();
  }, [fetchNextPage, hasNextPage, isFetching]);
  return (
    <>
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-[20px] font-semibold">Packages</h1>
        <span className="text-soft">{count(list.data?.pages[0]?.count ?? 0, "package")}</span>
        <span className="ml-auto" />
        <input
          ref={picker}
          type="file"
          className="hidden"
          aria-label="Package on this computer"
          onChange={(e) => e.target.files?.[0] && onFile(e.target.files[0])}
        />
        <button className="button" onClick={() => picker.current?.click()}>
          Bring one in from this computer …
        </button>
        <Search
          hint="Name, or host=gannet"
          value={text}
          onChange={(q) => setSearch(q ? { q } : {}, { replace: true })}
        />
      </div>
      <Told problem={list.error} />
      <p className="mb-3 flex flex-wrap gap-x-6 text-soft">
        {shelves.data?.map((s) => (
          <span key={s.id}>
            shelf <span className="font-semibold text-ink">{s.name}</span> at {s.host}, {size(s.freeBytes)} free
          </span>
        ))}
      </p>
      {list.isSuccess && items.length === 0 && (
        <p className="text-soft">
          {text ? "No package fits." : "No packages yet. Export a copy to a shelf from its lineage: "}
          {!text && (
            <Link className="text-sea" to="/lineages">
              Lineages
            </Link>
          )}
        </p>
      )}
      {items.length > 0 && (
        <div className="grid grid-cols-[1fr_14rem_7rem_12rem_7rem] border-b border-ink/40 pb-1 font-semibold text-soft">
          <span>Package</span>
          <span>Machine</span>
          <span>Size</span>
          <span>Written</span>
          <span />
        </div>
      )}
      <Rows
        items={items}
        height={36}
        label="Packages"
        keyOf={(c) => c.id}
        onOpen={setChosen}
        more={more}
        row={(c) => (
          <div className="grid h-full grid-cols-[1fr_14rem_7rem_12rem_7rem] items-center">
            <span className="mono truncate" title={c.path}>
              {place(c)}
            </span>
            <Link to={`/lineages/${c.lineage}?copy=${c.id}`} className="text-sea" onClick={(e) => e.stopPropagation()}>
              {c.name}
            </Link>
            <span className="mono">{size(c.sizeBytes)}</span>
            <span className="text-soft" title={exact(c.madeAt)}>
              {c.madeBy === "survey" ? "found" : c.madeBy} {ago(c.madeAt)}
            </span>
            {c.shelf ? (
              <button
                className="button"
                onClick={(e) => {
                  e.stopPropagation();
                  setChosen(c);
                }}
              >
                Bring in …
              </button>
            ) : (
              <span className="text-soft">on a computer</span>
            )}
          </div>
        )}
      />
      {chosen?.shelf && <ImportSheet shelved={chosen} onClose={() => setChosen(undefined)} />}
    </>
  );
}
