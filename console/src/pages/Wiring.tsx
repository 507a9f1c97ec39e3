import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { addRule, dropRule, rulesQuery, segmentsQuery, setSegment, wiringTryQuery } from "../api";
import type { Schemas } from "../api";
import { count } from "../format";
import { Head } from "../parts/Head";
import { Field } from "../parts/Field";
import { HostPicker } from "../parts/HostPicker";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";
import { Landing } from "./Landing";

const empty = { network: "", vlan: 0, segment: "", host: "", switch: "" };

/** Rules that lead networks to segments and segments to switches, with a try-out. */
export function Wiring() {
  const queries = useQueryClient();
  const rules = useQuery(rulesQuery);
  const segments = useQuery(segmentsQuery);
  const [rule, setRule] = useState(empty);
  const again = () => queries.invalidateQueries({ queryKey: ["wiring"] });
  const add = useMutation({
    mutationFn: () => addRule(rule),
    onSuccess: async () => {
      setRule(empty);
      await again();
    },
  });
  const drop = useMutation({ mutationFn: dropRule, onSuccess: again });
  const text = (key: "network" | "segment" | "host" | "switch", label: string, hint: string) => (
    <Field name={label} hint={hint} look="w-40" value={rule[key]} set={(v) => setRule({ ...rule, [key]: v })} />
  );
  return (
    <>
      <Head
        title="Wiring"
        says={`${count(rules.data?.length ?? 0, "rule")}, tried in order; then segment, VLAN and name decide`}
      />
      <TryOut />
      <h2 className="mt-6 mb-2 text-[16px] font-semibold">Rules</h2>
      <Told problem={rules.error ?? drop.error} />
      {rules.data?.length === 0 && (
        <p className="text-soft">No rules: networks go by their segment, their VLAN and their name.</p>
      )}
      {rules.data && rules.data.length > 0 && (
        <Table
          label="Rules"
          items={rules.data}
          keyOf={(r) => r.id}
          columns={[
            { head: "#", look: "mono pr-4 text-soft", cell: (_, n) => n + 1 },
            { head: "Network", cell: (r) => r.network || "any" },
            { head: "VLAN", look: "mono pr-4", cell: (r) => r.vlan || "any" },
            { head: "Segment", cell: (r) => r.segment || "–" },
            { head: "Host", cell: (r) => r.host || "any" },
            { head: "Switch", width: "1fr", cell: (r) => r.switch || "the one that reaches it" },
            {
              look: "text-right",
              cell: (r) => (
                <button className="text-sea hover:underline" onClick={() => drop.mutate(r.id)}>
                  Drop
                </button>
              ),
            },
          ]}
        />
      )}
      <form
        className="mt-4 flex flex-wrap items-end gap-3"
        aria-label="New rule"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        {text("network", "Network", "Wet lab*")}
        <Field
          name="VLAN"
          type="number"
          most={4094}
          look="w-20"
          value={rule.vlan || ""}
          set={(v) => setRule({ ...rule, vlan: Number(v) })}
        />
        {text("segment", "Segment", "lab")}
        {text("host", "Only on host", "any")}
        {text("switch", "Switch", "by the segment")}
        <button className="button-main" disabled={!rule.network && !rule.vlan && !rule.segment}>
          Add the rule
        </button>
      </form>
      <Told problem={add.error} />
      <h2 className="mt-6 mb-2 text-[16px] font-semibold">Segments</h2>
      {segments.data?.length === 0 ? (
        <p className="text-soft">None yet: they come with the switches of hosts, and with rules.</p>
      ) : (
        <Segments list={segments.data ?? []} />
      )}
      <Landing />
    </>
  );
}

/** Segments with the subnet of each, and the addresses that it has to give out. */
function Segments({ list }: { list: Schemas["Segment"][] }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: setSegment,
    onSuccess: () => queries.invalidateQueries({ queryKey: ["wiring"] }),
  });
  const range = (s: Schemas["Segment"]) => (s.from && s.to ? `${s.from}-${s.to}` : "");
  const field = (s: Schemas["Segment"], label: string, hint: string, value: string, save: (v: string) => void) => (
    <input
      key={value}
      aria-label={`${label} of ${s.name}`}
      className="field mono w-80"
      placeholder={hint}
      defaultValue={value}
      onBlur={(e) => e.target.value !== value && save(e.target.value)}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
  return (
    <>
      <Table
        label="Segments"
        items={list}
        keyOf={(s) => s.name}
        columns={[
          { head: "Segment", look: "pr-4 font-semibold", cell: (s) => s.name },
          { head: "Hosts", look: "pr-4 text-soft", cell: (s) => count(s.hosts, "host") },
          {
            head: "Subnet",
            cell: (s) =>
              field(s, "Subnet", "its subnet", s.subnet ?? "", (v) =>
                set.mutate({ name: s.name, subnet: v, range: v === s.subnet ? range(s) : "" }),
              ),
          },
          {
            head: "Addresses to give out",
            cell: (s) =>
              field(s, "Addresses", "addresses to give out, FROM-TO", range(s), (v) =>
                set.mutate({ name: s.name, subnet: s.subnet ?? "", range: v }),
              ),
          },
          { head: "Given out", width: "1fr", look: "text-soft", cell: (s) => (s.given > 0 ? s.given : "") },
        ]}
      />
      <Told problem={set.error} />
    </>
  );
}

function TryOut() {
  const [network, setNetwork] = useState("");
  const [vlan, setVlan] = useState(0);
  const [host, setHost] = useState("");
  const tried = useQuery(wiringTryQuery(network, vlan, host));
  const t = tried.data;
  return (
    <section aria-label="Try it out" className="border border-rule bg-sheet px-4 py-3">
      <div className="flex flex-wrap items-center gap-3">
        <span className="font-semibold">Try it out:</span>
        <input
          aria-label="Network"
          className="field w-48"
          placeholder="a network’s name"
          value={network}
          onChange={(e) => setNetwork(e.target.value)}
        />
        <input
          aria-label="VLAN"
          className="field w-24"
          type="number"
          min={0}
          max={4094}
          placeholder="VLAN"
          value={vlan || ""}
          onChange={(e) => setVlan(Number(e.target.value))}
        />
        <span className="text-soft">brought to</span>
        <HostPicker value={host} onChange={setHost} first={false} />
      </div>
      <Told problem={tried.error} />
      {t && (
        <p className="mt-2" role="status">
          {t.switch ? (
            <>
              lands on the switch <b className="font-semibold text-beacon">{t.switch}</b>, segment {t.segment}: {t.why}.
            </>
          ) : t.segment ? (
            <span className="text-buoy">
              belongs on the segment {t.segment}, {t.why}; {host} has no switch that reaches it.
            </span>
          ) : (
            <span className="text-buoy">lands nowhere: {t.why}.</span>
          )}
          {t.likely.length > 0 && (
            <span className="text-soft">
              {" "}
              {t.switch ? "Also fit" : "The likeliest"}: {t.likely.join(", ")}.
            </span>
          )}
        </p>
      )}
    </section>
  );
}
