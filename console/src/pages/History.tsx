import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { allHistoryQuery } from "../api";
import { exact } from "../format";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";

/** Who did what, when and why. */
export function History() {
  const list = usePages(useInfiniteQuery(allHistoryQuery));
  return (
    <>
      <h1 className="mb-3 text-[20px] font-semibold">History</h1>
      <Told problem={list.error} />
      <Table
        label="History"
        items={list.items}
        keyOf={(e) => String(e.id)}
        more={list.more}
        moreText="Earlier"
        columns={[
          { head: "When", look: "mono pr-4 whitespace-nowrap", cell: (e) => exact(e.at) },
          { head: "Who", cell: (e) => e.who },
          { head: "What", cell: (e) => e.what },
          {
            head: "Of what",
            cell: (e) =>
              e.lineage ? (
                <Link className="text-sea" to={`/lineages/${e.lineage}${e.copy ? `?copy=${e.copy}` : ""}`}>
                  {e.subject}
                </Link>
              ) : (
                e.subject
              ),
          },
          { head: "Why", width: "1fr", look: "text-soft", cell: (e) => e.why },
        ]}
      />
    </>
  );
}
