import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import type { CSSProperties, ReactNode } from "react";
import { typing } from "./useKey";

export type Column<T> = {
  head?: ReactNode;
  cell: (item: T, at: number) => ReactNode;
  width?: string; // as grid-template-columns has it; "auto" unless said
  look?: string; // classes of its cells
};

type Props<T> = {
  label: string;
  items: T[];
  columns: Column<T>[];
  keyOf: (item: T) => string;
  /** The height of a row in pixels: the table scrolls by itself, and only what is seen of it is drawn. */
  height?: number;
  onOpen?: (item: T) => void;
  selected?: string; // key of the row that is open
  chosen?: Set<string>; // keys of the rows that are chosen; the table has a box on each row then
  onChoose?: (keys: string[], on: boolean) => void;
  more?: () => void; // called near the end of one that scrolls, else by its button
  moreText?: string;
  least?: string; // width below which one that scrolls also does so sideways
};

// A row whose columns are those of its table.
const within = "col-span-full grid-cols-subgrid";

/** The one table for all lists. Where rows can be opened, j, k and enter work on it. */
export function Table<T>(p: Props<T>) {
  const { items, keyOf, height, onOpen, more, chosen, onChoose } = p;
  const before = useRef(-1); // the row that was chosen last: with the shift key all between are
  const choose = (n: number, on: boolean, range: boolean) => {
    const from = range && before.current >= 0 ? Math.min(before.current, n) : n;
    const to = range && before.current >= 0 ? Math.max(before.current, n) : n;
    before.current = n;
    onChoose?.(items.slice(from, to + 1).map(keyOf), on);
  };
  const boxes: Column<T> = {
    head: (
      <input
        type="checkbox"
        aria-label="Choose all that are shown"
        checked={items.length > 0 && items.every((i) => chosen?.has(keyOf(i)))}
        onChange={(e) => onChoose?.(items.map(keyOf), e.target.checked)}
      />
    ),
    width: "1.8rem",
    cell: (item, n) => (
      <input
        type="checkbox"
        aria-label="Choose"
        className="align-middle"
        checked={chosen?.has(keyOf(item)) ?? false}
        onClick={(e) => {
          e.stopPropagation();
          choose(n, e.currentTarget.checked, e.shiftKey);
        }}
        readOnly
      />
    ),
  };
  const columns = onChoose ? [boxes, ...p.columns] : p.columns;
  const frame = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(-1);
  const virtual = useVirtualizer({
    count: height ? items.length : 0,
    getScrollElement: () => frame.current,
    estimateSize: () => height ?? 0,
    overscan: 12,
  });
  const drawn = virtual.getVirtualItems();
  const last = drawn[drawn.length - 1]?.index ?? -1;
  useEffect(() => {
    if (height && more && last >= items.length - 20) more();
  }, [height, last, items.length, more]);
  useEffect(() => {
    if (!onOpen) return;
    const press = (e: KeyboardEvent) => {
      if (typing(e) || e.ctrlKey || e.metaKey) return;
      if (e.key === "j" || e.key === "k") {
        const next = Math.min(items.length - 1, Math.max(0, at + (e.key === "j" ? 1 : -1)));
        setAt(next);
        virtual.scrollToIndex(next);
      }
      const item = items[at];
      if (e.key === "x" && item && onChoose) onChoose([keyOf(item)], !chosen?.has(keyOf(item)));
      if (e.key === "Enter" && item && e.target === document.body) onOpen(item);
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [items, at, onOpen, virtual, onChoose, chosen, keyOf]);

  const grid = { gridTemplateColumns: columns.map((c) => c.width ?? "auto").join(" ") };
  const row = (item: T, n: number, style: CSSProperties, look: string) => (
    <div
      key={keyOf(item)}
      role="row"
      aria-rowindex={n + 2}
      aria-selected={onOpen ? keyOf(item) === p.selected : undefined}
      tabIndex={onOpen ? 0 : undefined}
      className={`border-rule ${look} ${background(keyOf(item) === p.selected, n === at, onOpen !== undefined)}`}
      style={style}
      onClick={onOpen && (() => onOpen(item))}
      onFocus={() => setAt(n)} // j and k go on from the row that has the focus, which stays there
      onKeyDown={(e) => {
        if (e.key === "Enter" && e.target === e.currentTarget) onOpen?.(items[at] ?? item);
      }}
    >
      {columns.map((c, i) => (
        <div key={i} role={onOpen ? "gridcell" : "cell"} className={c.look ?? "min-w-0 pr-4"}>
          {c.cell(item, n)}
        </div>
      ))}
    </div>
  );
  const head = items.length > 0 && columns.some((c) => c.head !== undefined) && (
    <div
      role="row"
      aria-rowindex={1}
      className={`grid pb-1 font-semibold text-soft ${height ? "border-b border-ink/40" : within}`}
      style={height ? grid : undefined}
    >
      {columns.map((c, i) => (
        <div key={i} role="columnheader" className="pr-4">
          {c.head ?? <span className="sr-only">To do</span>}
        </div>
      ))}
    </div>
  );
  const role = onOpen ? "grid" : "table";
  if (height) {
    return (
      <div
        role={role}
        aria-label={p.label}
        aria-rowcount={items.length + 1}
        className="flex min-h-0 grow flex-col overflow-x-auto"
      >
        {head && (
          <div role="rowgroup" style={{ minWidth: p.least }}>
            {head}
          </div>
        )}
        <div
          ref={frame}
          role="rowgroup"
          className="min-h-32 grow overflow-x-hidden overflow-y-auto"
          style={{ minWidth: p.least }}
        >
          <div role="presentation" className="relative" style={{ height: virtual.getTotalSize() }}>
            {drawn.map((v) =>
              row(
                items[v.index]!,
                v.index,
                { ...grid, top: v.start, height },
                "absolute inset-x-0 grid items-center border-b",
              ),
            )}
          </div>
        </div>
      </div>
    );
  }
  return (
    <>
      <div role={role} aria-label={p.label} aria-rowcount={items.length + 1} className="grid" style={grid}>
        {head}
        {items.map((item, n) => row(item, n, {}, `grid items-baseline border-t py-1 ${within}`))}
      </div>
      {more && (
        <button className="button mt-2 self-start" onClick={more}>
          {p.moreText ?? "More"}
        </button>
      )}
    </>
  );
}

function background(selected: boolean, reached: boolean, opens: boolean) {
  if (selected) return "cursor-pointer bg-chart";
  if (reached) return "cursor-pointer bg-sheet outline outline-sea";
  return opens ? "cursor-pointer hover:bg-sheet" : "";
}
