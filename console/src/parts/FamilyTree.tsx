import { useMemo, useState } from "react";
import type { Copy } from "../api";
import { exact, lastPart, madeWords } from "../format";
import { bandOf, card, fold, layOut, pad, row } from "../layout";

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
  const sign = c.state === "running" ? "●" : c.form === "stray" ? "◇" : "○";
  return `${sign} ${c.form === "registered" ? c.state : c.form}`;
}

const cut = (s: string, most: number) => (s.length > most ? `${s.slice(0, most - 1)}…` : s);

type Props = { copies: Copy[]; selected: string; onSelect: (id: string) => void };

/** The family tree of a lineage as a picture. */
export function FamilyTree({ copies, selected, onSelect }: Props) {
  const [all, setAll] = useState(false);
  const { shown, more } = useMemo(
    () => (all ? { shown: copies, more: new Map<string, number>() } : fold(copies, selected)),
    [copies, selected, all],
  );
  const { bands, heads, spots, at, width, height } = useMemo(() => layOut(shown), [shown]);
  return (
    <div className="max-h-[60vh] overflow-auto border border-rule bg-sheet">
      <svg
        width={width}
        className="min-w-full"
        height={height}
        role="group"
        aria-label={`Family tree of ${copies.length} copies`}
      >
        {bands.map((b, n) => (
          <g key={b.name}>
            <rect
              x={0}
              y={b.y}
              width="100%"
              height={b.rows * row + pad}
              fill={n % 2 === 0 ? "var(--color-chart)" : "transparent"}
              opacity={0.45}
            />
            <text x={14} y={b.y + (b.rows * row + pad) / 2} fill="var(--color-ink)" fontWeight={600}>
              <title>{b.name}</title>
              {cut(b.name.split("@")[0]!, 15)}
              {b.name.includes("@") && (
                <tspan x={14} dy={16} fill="var(--color-soft)" fontWeight={400}>
                  {cut(`at ${b.name.split("@")[1]}`, 15)}
                </tspan>
              )}
            </text>
          </g>
        ))}
        {heads.map((s) => (
          <text key={s.x} x={s.x} y={20} fontSize={12} fill="var(--color-soft)" fontFamily="var(--font-mono)">
            {shortTime(s.copy.madeAt)}
          </text>
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
            className="cursor-pointer focus:outline-none"
            onClick={() => (more.has(s.copy.id) ? setAll(true) : onSelect(s.copy.id))}
            onKeyDown={(e) => e.key === "Enter" && (more.has(s.copy.id) ? setAll(true) : onSelect(s.copy.id))}
          >
            <title>
              {more.has(s.copy.id)
                ? `${bandOf(s.copy)}: draw ${more.get(s.copy.id)} more`
                : `${bandOf(s.copy)}: ${s.copy.name}, ${words(s.copy)}, ${madeWords(s.copy)} ${exact(s.copy.madeAt)}`}
            </title>
            {more.has(s.copy.id) ? (
              <Folded spot={s} count={more.get(s.copy.id)!} />
            ) : s.copy.form === "package" ? (
              <Knot spot={s} selected={selected === s.copy.id} />
            ) : (
              <Card spot={s} selected={selected === s.copy.id} />
            )}
            {!more.has(s.copy.id) && (
              <text x={s.x} y={s.y + card.height + 15} fontSize={12} fill="var(--color-soft)">
                {madeWords(s.copy)}
                {s.copy.madeBy !== "survey" && ` · identity ${s.copy.identity === "renew" ? "renewed" : "kept"}`}
              </text>
            )}
          </g>
        ))}
      </svg>
    </div>
  );
}

type Drawn = { spot: { copy: Copy; x: number; y: number }; selected: boolean };

/** Copies that are not drawn one by one. */
function Folded({ spot: { x, y }, count }: { spot: Drawn["spot"]; count: number }) {
  return (
    <>
      <rect
        x={x}
        y={y}
        width={card.width}
        height={card.height}
        rx={2}
        fill="var(--color-paper)"
        stroke="var(--color-soft)"
        strokeDasharray="3 3"
      />
      <text x={x + 10} y={y + 19} fontWeight={600} fill="var(--color-ink)">
        and {count} more
      </text>
      <text x={x + 10} y={y + 36} fontSize={12.5} fill="var(--color-soft)">
        made before: draw them
      </text>
    </>
  );
}

/** A copy that a host has, or a pool. */
function Card({ spot: { copy, x, y }, selected }: Drawn) {
  return (
    <>
      <rect
        x={x}
        y={y}
        width={card.width}
        height={card.height}
        rx={2}
        fill={selected ? "var(--color-chart)" : "var(--color-paper)"}
        stroke={selected ? "var(--color-sea)" : stroke(copy)}
        strokeWidth={selected ? 2.5 : 1.25}
      />
      <text x={x + 10} y={y + 19} fontWeight={600} fill="var(--color-ink)">
        {cut(copy.name, 20)}
      </text>
      <text x={x + 10} y={y + 36} fontSize={12.5} fill={copy.goneAt ? "var(--color-soft)" : stroke(copy)}>
        {words(copy)}
      </text>
    </>
  );
}

/** A package: a knot in the line of copies, which goes through it. */
function Knot({ spot: { copy, x, y }, selected }: Drawn) {
  const middle = y + card.height / 2;
  const ink = selected ? "var(--color-sea)" : stroke(copy);
  return (
    <>
      <rect
        x={x}
        y={y}
        width={card.width}
        height={card.height}
        fill={selected ? "var(--color-chart)" : "transparent"}
      />
      <line x1={x} y1={middle} x2={x + card.width} y2={middle} stroke={ink} strokeWidth={selected ? 2.5 : 1.25} />
      <circle
        cx={x + 12}
        cy={middle}
        r={9}
        fill="var(--color-paper)"
        stroke={ink}
        strokeWidth={selected ? 2.5 : 1.25}
      />
      <path
        d={`M${x + 7} ${middle - 4} L${x + 17} ${middle + 4} M${x + 7} ${middle + 4} L${x + 17} ${middle - 4}`}
        stroke={ink}
        strokeWidth={1.25}
      />
      <text x={x + 27} y={middle - 6} fontWeight={600} fill="var(--color-ink)">
        {cut(lastPart(copy.path), 18)}
      </text>
      <text x={x + 27} y={middle + 16} fontSize={12.5} fill={copy.goneAt ? "var(--color-soft)" : stroke(copy)}>
        {words(copy)}
      </text>
    </>
  );
}
