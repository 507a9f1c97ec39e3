import { useState } from "react";
import { copyText } from "../secure";

/** An id that a click copies. */
export function Id({ value }: { value: string }) {
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
      className="mono break-all text-left hover:text-sea"
      title="Click to copy"
      onClick={() => void copy()}
    >
      {copied ? "copied" : value}
    </button>
  );
}
