import { useEffect, useRef, useState } from "react";
import type RFB from "@novnc/novnc";
import { displayLink } from "../api";
import type { Copy } from "../api";
import { keysym } from "../keys";

/** A machine's screen, with keyboard and mouse. */
export function Display({ copy, onClose }: { copy: Copy; onClose: () => void }) {
  const frame = useRef<HTMLDivElement>(null);
  const place = useRef<HTMLDivElement>(null);
  const screen = useRef<RFB>(undefined);
  const [says, setSays] = useState("Connecting …");
  const [text, setText] = useState("");
  useEffect(() => {
    let over = false;
    const open = async () => {
      const { default: Screen } = await import("@novnc/novnc"); // loaded when somebody uses one
      if (over || !place.current) return;
      const s = new Screen(place.current, displayLink(copy.id));
      s.scaleViewport = true;
      s.addEventListener("connect", () => {
        setSays("");
        s.focus();
      });
      s.addEventListener("disconnect", () => {
        if (!over) setSays("The connection to the screen has ended.");
      });
      screen.current = s;
    };
    open().catch(() => setSays("The screen can't be shown."));
    return () => {
      over = true;
      screen.current?.disconnect();
      screen.current = undefined;
    };
  }, [copy.id]);
  const type = () => {
    for (const character of text) screen.current?.sendKey(keysym(character), null);
    setText("");
    screen.current?.focus();
  };
  return (
    <section ref={frame} aria-label="Screen" className="flex min-w-0 flex-col bg-paper">
      <h3 className="mb-1 flex items-baseline gap-3 font-semibold text-soft">
        Screen
        <span role="status" className="font-normal">
          {says}
        </span>
        <span className="ml-auto" />
        <button
          className="font-normal text-sea hover:underline"
          onClick={() => {
            screen.current?.sendCtrlAltDel();
            screen.current?.focus();
          }}
        >
          Ctrl-Alt-Del
        </button>
        <button
          className="font-normal text-sea hover:underline"
          onClick={() => void frame.current?.requestFullscreen()}
        >
          Whole screen
        </button>
        <button className="font-normal text-sea hover:underline" onClick={onClose}>
          Let go
        </button>
      </h3>
      <div ref={place} className="min-h-72 w-full flex-1 border border-rule" />
      <form
        className="mt-1 flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          type();
        }}
      >
        <input
          aria-label="Text to type on its keyboard"
          placeholder="Text to type on its keyboard"
          className="field flex-1"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <button className="button">Type</button>
      </form>
    </section>
  );
}
