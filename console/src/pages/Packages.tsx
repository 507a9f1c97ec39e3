import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useContext, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { packagesQuery, shelvesQuery } from "../api";
import type { Copy } from "../api";
import { ago, counted, exact, place, size } from "../format";
import { Bring } from "../bring";
import { Head } from "../parts/Head";
import { Search } from "../parts/Search";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";
import { ImportSheet } from "./ImportSheet";

/** The packages on the shelves, and the way in for one from this computer. */
export function Packages() {
  const onFile = useContext(Bring);
  const [search, setSearch] = useSearchParams();
  const text = search.get("q") ?? "";
  const [chosen, setChosen] = useState<Copy>();
  const list = usePages(useInfiniteQuery(packagesQuery(text)));
  const shelves = useQuery(shelvesQuery);
  const picker = useRef<HTMLInputElement>(null);
  const items = list.items;
  return (
    <>
      <Head title="Packages" says={counted(list.count, "package")}>
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
      </Head>
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
          {text ? "No package fits." : "No packages yet. Export a copy to a shelf, or into a pool, from its lineage: "}
          {!text && (
            <Link className="text-sea" to="/lineages">
              Lineages
            </Link>
          )}
        </p>
      )}
      <Table
        items={items}
        height={36}
        label="Packages"
        keyOf={(c) => c.id}
        onOpen={setChosen}
        more={list.more}
        columns={[
          {
            head: "Package",
            width: "1fr",
            look: "mono truncate pr-4",
            cell: (c) => <span title={c.path}>{place(c)}</span>,
          },
          {
            head: "Machine",
            width: "14rem",
            cell: (c) => (
              <Link
                to={`/lineages/${c.lineage}?copy=${c.id}`}
                className="text-sea"
                onClick={(e) => e.stopPropagation()}
              >
                {c.name}
              </Link>
            ),
          },
          { head: "Size", width: "7rem", look: "mono", cell: (c) => size(c.sizeBytes) },
          {
            head: "Written",
            width: "12rem",
            look: "text-soft",
            cell: (c) => (
              <span title={exact(c.madeAt)}>
                {c.madeBy === "survey" ? "found" : c.madeBy} {ago(c.madeAt)}
              </span>
            ),
          },
          {
            width: "8rem",
            look: "whitespace-nowrap",
            cell: (c) =>
              c.shelf ? (
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
              ),
          },
        ]}
      />
      {chosen?.shelf && <ImportSheet shelved={chosen} onClose={() => setChosen(undefined)} />}
    </>
  );
}
