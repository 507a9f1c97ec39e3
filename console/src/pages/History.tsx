import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { allHistoryQuery } from "../api";
import { exact } from "../format";
import { Head } from "../parts/Head";
import { Told } from "../parts/Told";

/** Who did what, when and why. */
export function History() {
  const list = useInfiniteQuery(allHistoryQuery);
  const entries = list.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <h1 className="mb-3 text-[20px] font-semibold">History</h1>
      <Told problem={list.error} />
      <table className="w-full text-left">
        <Head of={["When", "Who", "What", "Of what", "Why"]} />
        <tbody>
          {entries.map((e) => (
            <tr key={e.id} className="border-t border-rule">
              <td className="mono py-1 pr-4 whitespace-nowrap">{exact(e.at)}</td>
              <td className="pr-4">{e.who}</td>
              <td className="pr-4">{e.what}</td>
              <td className="pr-4">
                {e.lineage ? (
                  <Link className="text-sea" to={`/lineages/${e.lineage}${e.copy ? `?copy=${e.copy}` : ""}`}>
                    {e.subject}
                  </Link>
                ) : (
                  e.subject
                )}
              </td>
              <td className="text-soft">{e.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {list.hasNextPage && (
        <button className="button mt-3 self-start" onClick={() => void list.fetchNextPage()}>
          Earlier
        </button>
      )}
    </>
  );
}
