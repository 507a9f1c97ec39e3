import type { Plan } from "../api";

const most = 40; // lines

/** What will be different about machines when a plan is carried out, or became so. */
export function Changes({ changes, was }: { changes: Plan["changes"]; was?: boolean }) {
  const title = was ? "What became different" : "What will be different";
  if (changes.length === 0) return null;
  const several = new Set(changes.map((c) => c.of)).size > 1;
  return (
    <section className="mt-4" aria-label={title}>
      <h3 className="mb-1 font-semibold">{title}</h3>
      <dl className="grid grid-cols-[minmax(7rem,auto)_1fr] gap-x-5">
        {changes.slice(0, most).map((c, n) => (
          <div key={n} className="contents">
            {several && c.of !== changes[n - 1]?.of && (
              <dt className="col-span-2 mt-1 border-t border-rule pt-1 font-semibold">{c.of}</dt>
            )}
            <dt className="text-soft">{c.what}</dt>
            <dd className="[overflow-wrap:anywhere]">
              <span className="text-soft">{c.from}</span> <span aria-label="becomes">→</span> {c.to}
            </dd>
          </div>
        ))}
      </dl>
      {changes.length > most && <p className="mt-1 text-soft">and {changes.length - most} more</p>}
    </section>
  );
}
