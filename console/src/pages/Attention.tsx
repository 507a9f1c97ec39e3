import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { attentionQuery, figureOf, leaveAlone, recognise, resumeJob, waitingQuery } from "../api";
import type { Item, Waits } from "../api";
import { ago, count, exact } from "../format";
import { FirstRun } from "../parts/FirstRun";
import { Head } from "../parts/Head";
import { Told } from "../parts/Told";
import { usePages } from "../parts/usePages";
import { OperationSheet } from "./OperationSheet";

/** What is done at once, without a plan. */
const atOnce: Record<string, (i: Item) => Promise<unknown>> = {
  recognise: (i) => recognise(i.act?.copies?.[0] ?? "", i.act?.candidate ?? ""),
  resume: (i) => resumeJob(i.act?.copies?.[0] ?? ""),
};
const direct = (i: Item) => atOnce[i.act?.do ?? ""];

/** What waits for a decision, by cause, worst first. */
export function Attention() {
  const queries = useQueryClient();
  const [left, setLeft] = useState(false);
  const [search, setSearch] = useSearchParams();
  const cause = search.get("cause") ?? "";
  const { items, more, error, isSuccess } = usePages(useInfiniteQuery(attentionQuery(left, cause)));
  const waits = useQuery(waitingQuery).data ?? [];
  const figure = figureOf(waits);
  const [picked, setPicked] = useState<string[]>([]);
  const [queue, setQueue] = useState<Item[]>([]); // opened one after the other
  const [leaving, setLeaving] = useState(false);
  const again = () => queries.invalidateQueries({ queryKey: ["copies"] });
  const say = useMutation({
    mutationFn: (i: Item) => direct(i)?.(i) ?? Promise.resolve(),
    onSuccess: again,
  });
  const chosen = items.filter((i) => picked.includes(i.id));
  const causes = [...new Map(items.map((i) => [i.cause, i])).values()];
  const act = (list: Item[]) => {
    for (const i of list.filter(direct)) say.mutate(i);
    setQueue(list.filter((i) => i.request));
    setPicked([]);
  };
  const current = queue[0];
  return (
    <>
      <Head
        title="Attention"
        says={`${figure.sum}${figure.more} ${figure.sum === 1 ? "thing" : "things"} to decide, worst first`}
      >
        {chosen.length > 0 && (
          <>
            <button className="button" onClick={() => act(chosen)}>
              Do what is recommended, {chosen.length}
            </button>
            <button className="button" onClick={() => setLeaving(true)}>
              Leave {chosen.length} as they are …
            </button>
          </>
        )}
        <label className="flex items-center gap-1.5 text-soft">
          <input type="checkbox" checked={left} onChange={(e) => setLeft(e.target.checked)} />
          also what was left alone
        </label>
      </Head>
      {(more || cause) && (
        <nav className="mb-3 flex flex-wrap gap-x-4 gap-y-1" aria-label="Causes">
          {[{ cause: "", title: "All", count: 0 }, ...waits].map((w) => (
            <button
              key={w.cause}
              aria-pressed={w.cause === cause}
              className={w.cause === cause ? "font-semibold text-sea" : "text-soft hover:text-sea"}
              onClick={() => setSearch(w.cause ? { cause: w.cause } : {}, { replace: true })}
            >
              {w.title} {w.cause && `${figureOf([w]).sum}${figureOf([w]).more}`}
            </button>
          ))}
        </nav>
      )}
      <Told problem={error ?? say.error} />
      {isSuccess && items.length === 0 && <p className="mb-3 text-soft">Nothing waits for a decision. Fair winds.</p>}
      <FirstRun />
      {leaving && (
        <LeaveForm
          ids={chosen.map((i) => i.id)}
          onDone={() => {
            setLeaving(false);
            setPicked([]);
            void again();
          }}
        />
      )}
      {causes.map(({ cause, title, grave }) => (
        <section key={cause} className="mb-4" aria-label={cause}>
          <h2 className={`mb-1 font-semibold ${grave ? "text-wreck" : "text-buoy"}`}>
            {grave ? "✕ " : "? "}
            {title} <CountOf waits={waits} cause={cause} shown={items.filter((i) => i.cause === cause).length} />
          </h2>
          <ul>
            {items
              .filter((i) => i.cause === cause)
              .map((i) => (
                <li
                  key={i.id}
                  className="grid grid-cols-[1.5rem_1fr_auto] items-baseline gap-x-3 border-t border-rule py-1.5"
                >
                  <input
                    type="checkbox"
                    aria-label={`Pick ${i.subject}`}
                    checked={picked.includes(i.id)}
                    onChange={(e) => setPicked(e.target.checked ? [...picked, i.id] : picked.filter((p) => p !== i.id))}
                  />
                  <div className="min-w-0 [overflow-wrap:anywhere]">
                    <span className="font-semibold">{i.subject}</span>{" "}
                    {i.since && (
                      <span className="text-soft" title={exact(i.since)}>
                        {ago(i.since)}
                      </span>
                    )}
                    <p>{i.evidence}</p>
                    {i.left && (
                      <p className="text-soft">
                        Left alone by {i.left.who} until {new Date(i.left.until).toLocaleDateString("en-GB")}:{" "}
                        {i.left.reason}
                      </p>
                    )}
                  </div>
                  <div className="flex items-center gap-3 text-right">
                    {i.copies[0] && (
                      <Link className="text-sea hover:underline" to={`/lineages/${i.copies[0]}?copy=${i.copies[0]}`}>
                        See it
                      </Link>
                    )}
                    {i.request || direct(i) ? (
                      <button className="button" onClick={() => act([i])}>
                        {i.recommended}
                        {i.request && " …"}
                      </button>
                    ) : (
                      <span className="max-w-80 text-soft">{i.recommended}</span>
                    )}
                  </div>
                </li>
              ))}
          </ul>
        </section>
      ))}
      {more && (
        <button className="button" onClick={more}>
          More
        </button>
      )}
      {current?.request && (
        <OperationSheet
          key={current.id}
          title={current.recommended}
          request={current.request}
          onClose={() => setQueue(queue.slice(1))}
        />
      )}
    </>
  );
}

/** How many of a cause there are, where not all of them are shown. */
function CountOf({ waits, cause, shown }: { waits: Waits[]; cause: string; shown: number }) {
  const there = waits.find((w) => w.cause === cause);
  if (!there || there.count <= shown) return null;
  const { sum, more } = figureOf([there]);
  return (
    <span className="font-normal text-soft">
      {shown} of {sum}
      {more}
    </span>
  );
}

function LeaveForm({ ids, onDone }: { ids: string[]; onDone: () => void }) {
  const [reason, setReason] = useState("");
  const [days, setDays] = useState(30);
  const leave = useMutation({ mutationFn: () => leaveAlone(ids, reason, days), onSuccess: onDone });
  return (
    <form
      aria-label="Leave as they are"
      className="mb-3 flex flex-wrap items-center gap-3 border border-rule bg-sheet px-4 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        leave.mutate();
      }}
    >
      <span className="font-semibold">Leave {count(ids.length, "item")} as they are, because</span>
      <input
        autoFocus
        aria-label="Reason"
        className="field w-80"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      />
      <label className="flex items-center gap-1.5">
        for
        <input
          className="field w-20"
          type="number"
          min={1}
          value={days}
          onChange={(e) => setDays(Math.max(1, Number(e.target.value)))}
        />
        days
      </label>
      <button className="button-main" disabled={!reason.trim()}>
        Leave
      </button>
      <Told problem={leave.error} />
    </form>
  );
}
