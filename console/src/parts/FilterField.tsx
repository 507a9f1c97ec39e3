import { useInfiniteQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import { hostsQuery } from "../api";
import { completions } from "../filter";
import { useKey } from "./useKey";

const pause = 250; // ms without a key before the list is asked for

/** The filter of a list, in the language of the client, with what could come next offered. "f" leads to it. */
export function FilterField({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  const [text, setText] = useState(value);
  const [last, setLast] = useState(value);
  const field = useRef<HTMLInputElement>(null);
  const list = useId();
  const hosts = useInfiniteQuery(hostsQuery(""));
  if (value !== last) {
    setLast(value);
    setText(value);
  }
  useEffect(() => {
    if (text === value) return;
    const timer = window.setTimeout(() => onChange(text), pause);
    return () => window.clearTimeout(timer);
  }, [text, value, onChange]);
  useKey("f", () => field.current?.focus());
  const names = hosts.data?.pages[0]?.items.map((h) => h.name) ?? [];
  return (
    <>
      <input
        ref={field}
        type="search"
        aria-label="Filter"
        className="field w-96 max-w-full"
        list={list}
        placeholder="Name, or host=gannet state=running   ( f )"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <datalist id={list}>
        {completions(text, names).map((c) => (
          <option key={c} value={c} />
        ))}
      </datalist>
    </>
  );
}
