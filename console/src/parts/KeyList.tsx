import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useState } from "react";
import { useKey } from "./useKey";

const keys: [string, string][] = [
  ["/", "find anything: a name, UUID, MAC, address, page"],
  ["f", "filter the list"],
  ["j k", "next and previous row"],
  ["enter", "open the row"],
  ["x", "choose the row"],
  ["?", "this list"],
  ["esc", "close"],
];

/** The list of keys, opened with "?" or its button. */
export function KeyList() {
  const [open, setOpen] = useState(false);
  useKey("?", () => setOpen(true));
  return (
    <>
      <button className="text-soft hover:text-ink" onClick={() => setOpen(true)}>
        Keys <span className="mono">?</span>
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} className="relative z-50">
        <div className="fixed inset-0 grid place-items-center bg-[#00000066]">
          <DialogPanel className="rounded-sm border border-rule bg-sheet p-5">
            <DialogTitle className="mb-3 text-[16px] font-semibold">Keys</DialogTitle>
            <dl className="grid grid-cols-[auto_1fr] gap-x-5 gap-y-1">
              {keys.map(([key, what]) => (
                <div key={key} className="contents">
                  <dt className="mono">{key}</dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </DialogPanel>
        </div>
      </Dialog>
    </>
  );
}
