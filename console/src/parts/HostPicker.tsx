import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { hostsQuery } from "../api";
import { State } from "./State";

/** Chooses a host by typing part of its name. */
export function HostPicker({
  value,
  onChange,
  first = true,
}: {
  value: string;
  onChange: (host: string) => void;
  first?: boolean; // what its place begins with: it has the focus until a host is chosen
}) {
  const [text, setText] = useState("");
  const list = useInfiniteQuery(hostsQuery(text));
  const hosts = list.data?.pages[0]?.items ?? [];
  return (
    <Combobox value={value} onChange={(h: string | null) => h && onChange(h)} immediate>
      <ComboboxInput
        aria-label="Host"
        autoFocus={first && !value}
        className="field w-44"
        placeholder="choose a host"
        displayValue={(h: string) => h}
        onChange={(e) => setText(e.target.value)}
        onBlur={() => setText("")}
      />
      <ComboboxOptions anchor="bottom start" className="z-50 w-64 border border-rule bg-sheet">
        {hosts.map((h) => (
          <ComboboxOption
            key={h.id}
            value={h.name}
            className="flex cursor-pointer justify-between px-3 py-1 data-focus:bg-chart"
          >
            <span className="font-semibold">{h.name}</span>
            <span className="flex gap-3">
              <span className="text-soft">{h.site}</span>
              <State is={h.state} />
            </span>
          </ComboboxOption>
        ))}
        {hosts.length === 0 && <p className="px-3 py-1 text-soft">No host fits.</p>}
      </ComboboxOptions>
    </Combobox>
  );
}
