import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { consoleQuery, getPicture, hostQuery, typeConsole } from "../api";
import type { Copy } from "../api";
import { typed } from "../keys";
import { inOrder } from "../typing";
import { Display } from "./Display";
import { Told } from "./Told";

const lookAgain = 10_000; // ms between pictures

/** What a machine says on its serial port, and what it shows on its screen. */
export function Console({ copy }: { copy: Copy }) {
  const host = useQuery(hostQuery(copy.host));
  const can = host.data?.abilities?.can ?? [];
  return (
    <div className="mt-4 grid grid-cols-2 gap-x-10">
      {can.includes("console") && <Serial copy={copy} />}
      {can.includes("display") && copy.state === "running" && <Screen copy={copy} />}
    </div>
  );
}

/** The serial port, the last of what was said in view. Keys that are pressed there go in. */
function Serial({ copy }: { copy: Copy }) {
  const runs = copy.state === "running";
  const [typing, setTyping] = useState(false);
  const [problem, setProblem] = useState<Error>();
  const { data } = useQuery(consoleQuery(copy.id, runs ? (typing ? 300 : 2000) : 0));
  const queries = useQueryClient();
  const last = useRef<HTMLTextAreaElement>(null);
  const [type] = useState(() => inOrder((text) => typeConsole(copy.id, text)));
  useEffect(() => {
    last.current?.scrollTo(0, last.current.scrollHeight);
  }, [data]);
  if (data === null || data === undefined) return null;
  const send = async (text: string) => {
    try {
      await type(text);
      setProblem(undefined);
    } catch (e) {
      setProblem(e as Error);
    }
    void queries.invalidateQueries({ queryKey: ["console", copy.id] });
  };
  return (
    <section aria-label="Console" className="min-w-0">
      <h3 className="mb-1 font-semibold text-soft">
        Console{runs && <span className="font-normal"> · {typing ? "keys go in" : "click into it to type"}</span>}
      </h3>
      <textarea
        ref={last}
        readOnly
        aria-label="What it has said"
        value={data || (runs ? "" : "It has said nothing.")}
        rows={14}
        className="mono block w-full border border-rule bg-sheet p-2"
        onFocus={() => setTyping(runs)}
        onBlur={() => setTyping(false)}
        onKeyDown={(e) => {
          const chosen = window.getSelection()?.toString();
          const text = typed(e);
          if (!runs || !text || (chosen && e.ctrlKey && e.key === "c")) return;
          e.preventDefault();
          void send(text);
        }}
        onPaste={(e) => {
          if (runs) void send(e.clipboardData.getData("text").replace(/\n/g, "\r"));
        }}
      />
      <Told problem={problem ?? null} />
    </section>
  );
}

/** A picture of the screen, and the screen itself once somebody wants to use it. */
function Screen({ copy }: { copy: Copy }) {
  const [used, setUsed] = useState(false);
  const [when, setWhen] = useState(() => Date.now());
  const [picture, setPicture] = useState("");
  useEffect(() => {
    if (used) return;
    const look = new AbortController();
    getPicture(copy.id, look.signal).then(setPicture, () => {}); // the next look shows it
    const next = window.setTimeout(() => setWhen(Date.now()), lookAgain);
    return () => {
      look.abort();
      window.clearTimeout(next);
    };
  }, [copy.id, used, when]);
  if (used) return <Display copy={copy} onClose={() => setUsed(false)} />;
  if (!picture) return null;
  return (
    <section aria-label="Screen" className="min-w-0">
      <h3 className="mb-1 flex items-baseline gap-3 font-semibold text-soft">
        Screen
        <button className="ml-auto font-normal text-sea hover:underline" onClick={() => setUsed(true)}>
          Use it
        </button>
      </h3>
      <img src={picture} alt={`What ${copy.name} shows`} className="block w-full border border-rule" />
    </section>
  );
}
