import { useInfiniteQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { hostsQuery } from "../api";
import { AddHost } from "./AddHost";

/** What to do first, where there is no host yet; nothing where there is one. */
export function FirstRun() {
  const navigate = useNavigate();
  const hosts = useInfiniteQuery(hostsQuery(""));
  if (!hosts.isSuccess || hosts.data.pages[0]?.items.length) return null;
  return (
    <section className="max-w-3xl border border-rule bg-sheet px-5 py-4" aria-label="First steps">
      <h2 className="text-[17px] font-semibold">Add the first host</h2>
      <ol className="mt-2 grid list-decimal gap-3 pl-5">
        <li>
          On a computer that runs machines, have a file for its agent written, and start it:
          <code className="mono mt-1 block bg-chart px-2 py-1">unvora agent init agent.toml</code>
          <code className="mono mt-1 block bg-chart px-2 py-1">unvora agent agent.toml</code>
          It prints a code, which is good for once.
        </li>
        <li>
          Give its address and the code here:
          <AddHost onAdded={(host) => void navigate(`/hosts?host=${encodeURIComponent(host)}`)} />
        </li>
        <li>
          Its machines, pools and switches appear by themselves, as the first survey finds them. What waits for a
          decision then is under Attention.
        </li>
      </ol>
    </section>
  );
}
