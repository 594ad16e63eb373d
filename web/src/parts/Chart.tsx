import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { clock } from "../format";

interface Props {
  title: string;
  times: number[];
  values: number[];
  /** Writes a value with its unit. */
  show: (v: number) => string;
  tone: "honey" | "reed";
}

const css = (name: string): string =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** A line over time. The canvas has a text alternative with the newest value. */
export function Chart({ title, times, values, show, tone }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const last = values.at(-1) ?? 0;
  const peak = values.reduce((a, b) => Math.max(a, b), 0);

  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const axis = {
      stroke: css("soft"),
      grid: { stroke: css("line"), width: 1 },
      ticks: { show: false },
      font: "11px Sometype, monospace",
    };
    const p = new uPlot(
      {
        width: el.clientWidth,
        height: 128,
        legend: { show: false },
        cursor: { y: false },
        scales: { y: { range: (_u, _min, max) => [0, max > 0 ? max * 1.15 : 1] } },
        axes: [
          {
            ...axis,
            size: 24,
            space: 90,
            incrs: [1, 5, 15, 30, 60, 300, 900, 3600],
            values: (_u, ticks) => ticks.map((s) => clock(new Date(s * 1000).toISOString())),
          },
          {
            ...axis,
            size: 78,
            values: (_u, ticks) => ticks.map(show),
            space: 34,
          },
        ],
        series: [{}, { stroke: css(tone), width: 1.75, points: { show: false } }],
      },
      [[], []],
      el,
    );
    plot.current = p;
    const resize = new ResizeObserver(() => {
      p.setSize({ width: el.clientWidth, height: 128 });
    });
    resize.observe(el);
    return () => {
      resize.disconnect();
      p.destroy();
      plot.current = null;
    };
  }, [show, tone]);

  useEffect(() => {
    plot.current?.setData([times, values]);
  }, [times, values]);

  return (
    <figure className="min-w-0 rounded-md border border-line bg-sheet px-3 pt-2 pb-1">
      <figcaption className="flex justify-between text-xs text-soft">
        <span>{title}</span>
        <span className="num">
          now {show(last)}, peak {show(peak)}
        </span>
      </figcaption>
      <div
        ref={box}
        role="img"
        aria-label={`${title} over the last 15 minutes: now ${show(last)}, peak ${show(peak)}`}
      />
    </figure>
  );
}
