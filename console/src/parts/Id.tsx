import { useState } from "react";
import { copyText } from "../secure";

/** An id that a click copies, or with words a text: it is broken between its words. */
export function Id({ value, words = false }: { value: string; words?: boolean }) {
  const [copied, setCopied] = useState(false);
  if (!value) return <span className="text-soft">–</span>;
  const copy = async () => {
    if (!(await copyText(value))) return;
    setCopied(true);
    setTimeout(() => setCopied(false), 1200);
  };
  return (
    <button
      type="button"
      className={`mono text-left hover:text-sea ${words ? "[overflow-wrap:anywhere]" : "break-all"}`}
      title="Click to copy"
      onClick={() => void copy()}
    >
      {copied ? "copied" : value}
    </button>
  );
}
