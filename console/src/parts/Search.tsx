import { useRef } from "react";
import { useKey } from "./useKey";

/** The search field of a page; "f" leads to it. */
export function Search({ value, onChange, hint }: { value: string; onChange: (text: string) => void; hint: string }) {
  const field = useRef<HTMLInputElement>(null);
  useKey("f", () => field.current?.focus());
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
