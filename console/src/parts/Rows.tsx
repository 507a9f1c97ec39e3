import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import type { ReactNode } from "react";
import { typing } from "./KeyList";

type Props<T> = {
  items: T[];
  height: number; // of a row, in pixels
  label: string;
  keyOf: (item: T) => string;
  row: (item: T) => ReactNode;
  onOpen: (item: T) => void;
  selected?: string;
  more?: () => void; // called near the end
};

/** A list of which only what is seen is drawn; j, k and enter work on it. */
export function Rows<T>({ items, height, label, keyOf, row, onOpen, selected, more }: Props<T>) {
  const frame = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(-1);
  const virtual = useVirtualizer({
    count: items.length,
    getScrollElement: () => frame.current,
    estimateSize: () => height,
    overscan: 12,
  });
  const drawn = virtual.getVirtualItems();
  const last = drawn[drawn.length - 1]?.index ?? -1;
  useEffect(() => {
    if (more && last >= items.length - 20) more();
  }, [last, items.length, more]);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (typing(e) || e.ctrlKey || e.metaKey) return;
      if (e.key === "j" || e.key === "k") {
        const next = Math.min(items.length - 1, Math.max(0, at + (e.key === "j" ? 1 : -1)));
        setAt(next);
        virtual.scrollToIndex(next);
      }
      const item = items[at];
      if (e.key === "Enter" && item && !(e.target instanceof HTMLButtonElement)) onOpen(item);
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [items, at, onOpen, virtual]);
  return (
    <div ref={frame} className="min-h-0 grow overflow-auto" role="list" aria-label={label}>
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {drawn.map((v) => {
          const item = items[v.index]!;
          const look =
            keyOf(item) === selected ? "bg-chart" : v.index === at ? "bg-sheet outline outline-sea" : "hover:bg-sheet";
          return (
            <div
              key={keyOf(item)}
              role="listitem"
              className={`absolute inset-x-0 cursor-pointer border-b border-rule ${look}`}
              style={{ top: v.start, height }}
              onClick={() => onOpen(item)}
            >
              {row(item)}
            </div>
          );
        })}
      </div>
    </div>
  );
}
