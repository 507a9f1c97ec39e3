import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { operationsQuery, searchQuery } from "../api";
import type { Found } from "../api";
import { pages } from "../pages";
import { Told } from "./Told";
import { useKey } from "./useKey";

type Choice = { key: string; kind: string; name: string; about: string; to: string };

const enc = encodeURIComponent;
const option = "grid cursor-pointer grid-cols-[5.5rem_1fr_auto] items-baseline gap-3 px-4 py-1 data-focus:bg-chart";

/** Where what was found is shown. */
function pathOf(f: Found): string {
  switch (f.kind) {
    case "lineage":
      return `/lineages/${f.id}`;
    case "copy":
      return `/lineages/${f.lineage}?copy=${f.id}`;
    case "job":
      return `/jobs/${f.id}`;
    case "manager":
      return `/managers?manager=${f.id}`;
    case "shelf":
      return "/packages";
    default:
      return `/hosts?host=${enc(f.host)}`;
  }
}

/** Finds anything: opened with "/" or its button, from wherever one is. */
export function Find() {
  const [open, setOpen] = useState(false);
  useKey("/", () => setOpen(true));
  return (
    <>
      <button className="text-soft hover:text-ink" onClick={() => setOpen(true)}>
        Find <span className="mono">/</span>
      </button>
      {open && <Finder onClose={() => setOpen(false)} />}
    </>
  );
}

function Finder({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const sought = text.trim();
  const { data: found = [], error, isFetching } = useQuery(searchQuery(sought));
  const { data: operations = [] } = useQuery(operationsQuery);
  const fits = (words: string) => words.toLowerCase().includes(sought.toLowerCase());
  const choices: Choice[] = [
    ...pages
      .filter((p) => p.name && fits(p.name))
      .map((p) => ({ key: `page ${p.path}`, kind: "page", name: p.name!, about: "", to: `/${p.path}` })),
    ...(sought.length >= 2 ? found : []).map((f) => ({
      key: `${f.kind} ${f.id} ${f.name}`,
      kind: f.kind,
      name: f.name,
      about: f.about,
      to: pathOf(f),
    })),
    ...(sought.length >= 2 ? operations : [])
      .filter((o) => fits(`${o.title} ${o.name}`))
      .map((o) => ({ key: `do ${o.name}`, kind: "command", name: o.title, about: o.command, to: "/copies" })),
  ];
  return (
    <Dialog open onClose={onClose} className="relative z-40">
      <div className="fixed inset-0 flex justify-center bg-[#00000066] px-4 pt-[12vh]">
        <DialogPanel className="h-fit w-[44rem] max-w-full border border-rule bg-sheet">
          <Combobox
            onChange={(c: Choice | null) => {
              if (!c) return;
              onClose();
              void navigate(c.to);
            }}
          >
            <ComboboxInput
              autoFocus
              aria-label="Find"
              className="w-full border-b border-rule bg-sheet px-4 py-3 text-[16px] placeholder:text-soft"
              placeholder="A name, UUID, MAC, address, path, or a page"
              onChange={(e) => setText(e.target.value)}
            />
            <ComboboxOptions static className="max-h-[60vh] overflow-auto py-1">
              {choices.map((c) => (
                <ComboboxOption key={c.key} value={c} className={option}>
                  <span className="text-soft">{c.kind}</span>
                  <span className="truncate font-semibold">{c.name}</span>
                  <span className="max-w-72 truncate text-soft">{c.about}</span>
                </ComboboxOption>
              ))}
            </ComboboxOptions>
          </Combobox>
          <Told problem={error} />
          {choices.length === 0 && (
            <p className="px-4 pb-3 text-soft">{isFetching ? "Looking …" : "Nothing bears that."}</p>
          )}
        </DialogPanel>
      </div>
    </Dialog>
  );
}
