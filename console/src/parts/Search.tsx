import { useEffect, useRef } from "react";
import { typing } from "./KeyList";

/** The search field of a page; "f" leads to it. */
export function Search({ value, onChange, hint }: { value: string; onChange: (text: string) => void; hint: string }) {
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key !== "f" || typing(e) || e.ctrlKey || e.metaKey) return;
      e.preventDefault();
      field.current?.focus();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  return (
    <input
      ref={field}
      type="search"
      aria-label="Search"
      className="field w-80"
      placeholder={`${hint}   ( f )`}
      value={value}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}
