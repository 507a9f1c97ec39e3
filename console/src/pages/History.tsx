import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useSearchParams } from "react-router";
import { allHistoryQuery } from "../api";
import type { Schemas } from "../api";
import { exact } from "../format";
import { Head } from "../parts/Head";
import { Id } from "../parts/Id";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";

type Entry = Schemas["HistoryEntry"];
type Filter = { who: string; what: string; subject: string; since: string; until: string };

const quoted = (value: string) => (/[\s"=~]/.test(value) ? `"${value.replace(/["\\]/g, "\\$&")}"` : value);

/** The filter in the language of the client. */
function filterOf(f: Filter): string {
  return [
    f.who && `who=${quoted(f.who)}`,
    f.what && `what~${quoted(`${f.what}*`)}`,
    f.subject && `subject~${quoted(`*${f.subject}*`)}`,
    f.since && `since=${f.since}`,
    f.until && `until=${f.until}`,
  ]
    .filter(Boolean)
    .join(" ");
}

const jobOf = (e: Entry) => (typeof e.detail.job === "string" ? e.detail.job : undefined);

/** Who did what, when and why. */
export function History() {
  const [search, setSearch] = useSearchParams();
  const of = (key: keyof Filter) => search.get(key) ?? "";
  const filter = { who: of("who"), what: of("what"), subject: of("subject"), since: of("since"), until: of("until") };
  const list = usePages(useInfiniteQuery(allHistoryQuery(filterOf(filter))));
  const set = useCallback(
    (key: keyof Filter, value: string) =>
      setSearch(
        (old) => {
          const now = new URLSearchParams(old);
          if (value) now.set(key, value);
          else now.delete(key);
          return now;
        },
        { replace: true },
      ),
    [setSearch],
  );
  const field = (key: keyof Filter, label: string, type: string, width: string) => (
    <label className="flex items-baseline gap-1.5 text-soft">
      {label}
      <input
        key={filter[key]}
        type={type}
        className={`field ${width}`}
        defaultValue={filter[key]}
        onBlur={(e) => e.target.value !== filter[key] && set(key, e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && set(key, e.currentTarget.value)}
      />
    </label>
  );
  const filtered = filterOf(filter) !== "";
  return (
    <>
      <Head title="History">
        {field("who", "who", "search", "w-28")}
        {field("what", "what", "search", "w-28")}
        {field("subject", "of what", "search", "w-40")}
        {field("since", "since", "date", "w-36")}
        {field("until", "until", "date", "w-36")}
      </Head>
      <Told problem={list.error} />
      {list.isSuccess && list.items.length === 0 && (
        <p className="text-soft">{filtered ? "Nothing of the kind was done." : "Nothing was done yet."}</p>
      )}
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
            look: "min-w-0 pr-4 [overflow-wrap:anywhere]",
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
          {
            head: "Taken back by",
            look: "min-w-0 self-start pr-4 text-soft",
            cell: (e) => e.back && <Id words value={e.back} />,
          },
          {
            head: "Job",
            cell: (e) =>
              jobOf(e) && (
                <Link className="text-sea" to={`/jobs/${jobOf(e)}`}>
                  plan and steps
                </Link>
              ),
          },
        ]}
      />
    </>
  );
}
