import { useState } from "react";

type Props = { value: string; onChange: (text: string) => void };

/** What machines are told when they start for the first time; folded away, since most are told nothing. */
export function FirstStart({ value, onChange }: Props) {
  const [text, setText] = useState(value);
  return (
    <details className="w-full">
      <summary className="cursor-pointer text-soft">
        What it is told when it starts for the first time{value && " ✓"}
      </summary>
      <p className="mt-1 text-soft">
        Host name, addresses, a user, files, commands, as YAML. {"{name}"}, {"{n}"} and {"{nn}"} are its name and
        number.{" "}
        <button
          type="button"
          className="text-sea hover:underline"
          onClick={() => {
            setText(start);
            onChange(start);
          }}
        >
          Begin with its name
        </button>
      </p>
      <textarea
        aria-label="First start"
        className="field mono mt-1 h-28 w-full"
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={() => onChange(text)}
      />
    </details>
  );
}

const start = `host-name: "{name}"
addresses:            # automatic, give, or ADDRESS/BITS via GATEWAY
  NIC 1: automatic
`;
