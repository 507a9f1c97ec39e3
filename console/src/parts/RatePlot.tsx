import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { size } from "../format";

export type Rates = { at: number[]; rate: number[] }; // seconds since 1970, bytes per second

const height = 150;

const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** How fast a job went over time. */
export function RatePlot({ rates }: { rates: Rates }) {
  const frame = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const first = useRef(rates);
  useEffect(() => {
    const at = frame.current!;
    const axis = { stroke: colour("--color-soft"), grid: { stroke: colour("--color-rule") }, font: "12px sans-serif" };
    plot.current = new uPlot(
      {
        width: at.clientWidth,
        height,
        legend: { show: false },
        cursor: { show: false },
        scales: { y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] } },
        axes: [axis, { ...axis, size: 80, values: (_, values) => values.map((v) => `${size(v)}/s`) }],
        series: [
          {},
          {
            stroke: colour("--color-sea"),
            fill: `${colour("--color-sea")}22`,
            width: 1.5,
            paths: uPlot.paths.stepped!({ align: 1 }),
          },
        ],
      },
      [first.current.at, first.current.rate],
      at,
    );
    const fit = new ResizeObserver(() => plot.current?.setSize({ width: at.clientWidth, height }));
    fit.observe(at);
    return () => {
      fit.disconnect();
      plot.current?.destroy();
    };
  }, []);
  useEffect(() => plot.current?.setData([rates.at, rates.rate]), [rates]);
  const most = Math.max(0, ...rates.rate);
  return (
    <div ref={frame} role="img" aria-label={`Rate over time, at most ${size(most)} a second`} className="w-full" />
  );
}
