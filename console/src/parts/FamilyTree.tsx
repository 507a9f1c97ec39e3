import type { Copy } from "../api";
import { exact, lastPart } from "../format";

const column = 214; // from one moment to the next
const card = { width: 160, height: 46 };
const band = 92; // height of a host's band
const left = 120; // room for the bands' names
const top = 34; // room for the times

type Spot = { copy: Copy; x: number; y: number };

const bandOf = (c: Copy) => (c.form === "package" ? (c.shelf ? `${c.shelf} (shelf)` : "files") : c.host);

/** Bands in the order in which copies came to them; copies from left to right over time. */
function lay(copies: Copy[]) {
  const bands: string[] = [];
  const spots = new Map<string, Spot>();
  const ordered = inOrder(copies);
  ordered.forEach((copy, n) => {
    const name = bandOf(copy);
    if (!bands.includes(name)) bands.push(name);
    spots.set(copy.id, { copy, x: left + n * column, y: top + bands.indexOf(name) * band + (band - card.height) / 2 });
  });
  return {
    bands,
    spots: [...spots.values()],
    at: spots,
    width: left + ordered.length * column,
    height: top + bands.length * band,
  };
}

/** By time, but never a copy before the one it was made from: what was found by a survey may be older than it seems. */
function inOrder(copies: Copy[]): Copy[] {
  const known = new Set(copies.map((c) => c.id));
  const placed = new Set<string>();
  const out: Copy[] = [];
  const rest = [...copies].sort((a, b) => a.madeAt.localeCompare(b.madeAt));
  while (rest.length > 0) {
    const ready = rest.findIndex((c) => !c.parent || !known.has(c.parent) || placed.has(c.parent));
    const next = rest.splice(Math.max(0, ready), 1)[0]!;
    placed.add(next.id);
    out.push(next);
  }
  return out;
}

const shortTime = (time: string) =>
  new Date(time).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

const stroke = (c: Copy) =>
  c.goneAt
    ? "var(--color-rule)"
    : c.state === "running"
      ? "var(--color-beacon)"
      : c.form === "stray"
        ? "var(--color-buoy)"
        : "var(--color-soft)";

function words(c: Copy) {
  if (c.goneAt) return "✕ gone";
  if (c.form === "package") return "▣ package";
  return `${c.state === "running" ? "●" : c.form === "stray" ? "◇" : "○"} ${c.form === "registered" ? c.state : c.form}`;
}

const cut = (s: string, most: number) => (s.length > most ? `${s.slice(0, most - 1)}…` : s);

type Props = { copies: Copy[]; selected: string; onSelect: (id: string) => void };

/** The family tree of a lineage as a picture. */
export function FamilyTree({ copies, selected, onSelect }: Props) {
  const { bands, spots, at, width, height } = lay(copies);
  return (
    <div className="overflow-x-auto border border-rule bg-sheet">
      <svg
        width={width}
        className="min-w-full"
        height={height}
        role="img"
        aria-label={`Family tree of ${copies.length} copies`}
      >
        {bands.map((name, n) => (
          <g key={name}>
            <rect
              x={0}
              y={top + n * band}
              width="100%"
              height={band}
              fill={n % 2 === 0 ? "var(--color-chart)" : "transparent"}
              opacity={0.45}
            />
            <text x={14} y={top + n * band + band / 2 + 5} fill="var(--color-ink)" fontWeight={600}>
              {cut(name, 15)}
            </text>
          </g>
        ))}
        {spots.map((s) => {
          const parent = s.copy.parent ? at.get(s.copy.parent) : undefined;
          if (!parent) return null;
          const [x1, y1] = [parent.x + card.width, parent.y + card.height / 2];
          const [x2, y2] = [s.x, s.y + card.height / 2];
          const bend = Math.max(24, (x2 - x1) / 2);
          return (
            <path
              key={`edge ${s.copy.id}`}
              d={`M${x1} ${y1} C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`}
              fill="none"
              stroke="var(--color-sea)"
              strokeWidth={1.5}
              strokeDasharray={s.copy.madeBy === "survey" ? "4 4" : undefined}
            />
          );
        })}
        {spots.map((s) => (
          <g
            key={s.copy.id}
            role="button"
            tabIndex={0}
            aria-label={`${bandOf(s.copy)}: ${s.copy.name}, ${words(s.copy)}`}
            className="cursor-pointer focus:outline-none"
            onClick={() => onSelect(s.copy.id)}
            onKeyDown={(e) => e.key === "Enter" && onSelect(s.copy.id)}
          >
            <title>{`${s.copy.madeBy === "survey" ? "found" : s.copy.madeBy} ${exact(s.copy.madeAt)}`}</title>
            <text x={s.x} y={20} fontSize={12} fill="var(--color-soft)" fontFamily="var(--font-mono)">
              {shortTime(s.copy.madeAt)}
            </text>
            <rect
              x={s.x}
              y={s.y}
              width={card.width}
              height={card.height}
              rx={2}
              fill={selected === s.copy.id ? "var(--color-chart)" : "var(--color-paper)"}
              stroke={selected === s.copy.id ? "var(--color-sea)" : stroke(s.copy)}
              strokeWidth={selected === s.copy.id ? 2.5 : 1.25}
            />
            <text x={s.x + 10} y={s.y + 19} fontWeight={600} fill="var(--color-ink)">
              {cut(s.copy.form === "package" ? lastPart(s.copy.path) : s.copy.name, 20)}
            </text>
            <text x={s.x + 10} y={s.y + 36} fontSize={12.5} fill={s.copy.goneAt ? "var(--color-soft)" : stroke(s.copy)}>
              {words(s.copy)}
            </text>
            <text x={s.x} y={s.y + card.height + 15} fontSize={12} fill="var(--color-soft)">
              {s.copy.madeBy === "survey" ? (s.copy.parent ? "copied by hand" : "found") : s.copy.madeBy}
              {s.copy.madeBy !== "survey" && ` · identity ${s.copy.identity === "renew" ? "renewed" : "kept"}`}
            </text>
          </g>
        ))}
      </svg>
    </div>
  );
}
