const looks: Record<string, [string, string]> = {
  running: ["●", "text-beacon"],
  up: ["●", "text-beacon"],
  done: ["✓", "text-beacon"],
  ready: ["●", "text-beacon"],
  stopped: ["○", "text-soft"],
  working: ["▸", "text-sea"],
  waiting: ["…", "text-soft"],
  held: ["‖", "text-buoy"],
  partly: ["◐", "text-buoy"],
  stray: ["◇", "text-buoy"],
  away: ["◌", "text-buoy"],
  hollow: ["✕", "text-wreck"],
  failed: ["✕", "text-wreck"],
  unreachable: ["✕", "text-wreck"],
  cancelled: ["↶", "text-buoy"],
  package: ["▣", "text-soft"],
  gone: ["✕", "text-soft"],
};

/** A state with its sign, so that colour never stands alone. */
export function State({ is }: { is: string }) {
  const [sign, colour] = looks[is] ?? ["·", "text-soft"];
  return (
    <span className={`whitespace-nowrap ${colour}`}>
      <span aria-hidden>{sign}</span> {is}
    </span>
  );
}
