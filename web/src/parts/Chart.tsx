import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import { duration } from "../format";
import { usePrefs } from "../prefs";
import { clock } from "../time";

export interface Line {
  name: string;
  tone: "honey" | "reed" | "brick" | "timber";
  values: number[];
  /** Writes a value with its unit. */
  show: (v: number) => string;
  /** The same, short, for the axis. */
  axis: (v: number) => string;
  /** Drawn against an axis of its own, on the right. */
  right?: boolean;
  dash?: boolean;
}

interface Props {
  title: string;
  times: number[];
  lines: Line[];
  from: number;
  to: number;
  onZoom: (from: number, to: number) => void;
}

const css = (name: string): string =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

const height = 126;

/** Lines over time. Dragging chooses a window; the pointer or the arrow keys read exact values. */
export function Chart({ title, times, lines, from, to, onZoom }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const latest = useRef({ lines, onZoom });
  const [at, setAt] = useState<number | null>(null);
  const [{ theme, clock: zone }] = usePrefs();
  const shape = lines.map((l) => `${l.name}/${l.tone}/${l.right ?? false}`).join();

  useEffect(() => {
    latest.current = { lines, onZoom };
  });

  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const now = latest.current.lines;
    const axis = {
      stroke: css("soft"),
      grid: { stroke: css("line"), width: 1 },
      ticks: { show: false },
      font: "11px Sometype, monospace",
    };
    const left = now.find((l) => !l.right);
    const right = now.find((l) => l.right);
    const range = (_u: uPlot, _min: number, max: number): [number, number] => [0, max > 0 ? max * 1.12 : 1];
    const p = new uPlot(
      {
        width: el.clientWidth,
        height,
        legend: { show: false },
        cursor: { y: false, sync: { key: "crossing" }, drag: { x: true, y: false, setScale: false } },
        scales: { y: { range }, right: { range } },
        axes: [
          {
            ...axis,
            size: 22,
            space: 74,
            values: (_u, ticks) => ticks.map((s) => clock(new Date(s * 1000), zone).slice(0, 8)),
          },
          { ...axis, size: 58, space: 30, values: (_u, ticks) => ticks.map((v) => left?.axis(v) ?? "") },
          ...(right
            ? [
                {
                  ...axis,
                  grid: { show: false },
                  scale: "right",
                  side: 1 as const,
                  size: 56,
                  space: 30,
                  values: (_u: uPlot, ticks: number[]) => ticks.map((v) => right.axis(v)),
                },
              ]
            : []),
        ],
        series: [
          {},
          ...now.map((l) => ({
            stroke: css(l.tone),
            width: 1.75,
            scale: l.right ? "right" : "y",
            points: { show: false },
            ...(l.dash ? { dash: [5, 4] } : {}),
          })),
        ],
        hooks: {
          setCursor: [
            (u) => {
              setAt(u.cursor.idx ?? null);
            },
          ],
          setSelect: [
            (u) => {
              if (u.select.width < 6) return;
              latest.current.onZoom(
                u.posToVal(u.select.left, "x"),
                u.posToVal(u.select.left + u.select.width, "x"),
              );
              u.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false);
            },
          ],
        },
      },
      [[], ...now.map(() => [])],
      el,
    );
    plot.current = p;
    const resize = new ResizeObserver(() => {
      p.setSize({ width: el.clientWidth, height });
    });
    resize.observe(el);
    return () => {
      resize.disconnect();
      p.destroy();
      plot.current = null;
    };
  }, [shape, theme, zone]);

  useEffect(() => {
    const p = plot.current;
    if (!p) return;
    p.batch(() => {
      p.setData([times, ...lines.map((l) => l.values)], false);
      p.setScale("x", { min: from, max: to });
    });
  }, [times, lines, from, to, shape, theme, zone]);

  const move = (by: number) => {
    const p = plot.current;
    if (!p || times.length === 0) return;
    const i = Math.max(0, Math.min(times.length - 1, (p.cursor.idx ?? times.length - 1) + by));
    p.setCursor({ left: p.valToPos(times[i] ?? 0, "x"), top: 10 });
  };
  const shown = at !== null && at < times.length ? at : times.length - 1;
  const when = times[shown];
  return (
    <figure className="sheet min-w-0 px-2 pt-1.5 pb-1">
      <figcaption className="px-1 text-xs">
        <span className="flex flex-wrap justify-between gap-x-2">
          <span className="font-medium">{title}</span>
          <span className="num text-soft">
            {when === undefined
              ? "nothing yet"
              : at === null
                ? "now"
                : `at ${clock(new Date(when * 1000), zone)}`}
          </span>
        </span>
        <span className="num flex flex-wrap gap-x-3">
          {lines.map((l) => (
            <span key={l.name} className="whitespace-nowrap">
              <span aria-hidden style={{ color: `var(--${l.tone})` }}>
                {l.dash ? "┅" : "━"}
              </span>{" "}
              {l.name} {l.values[shown] === undefined ? "–" : l.show(l.values[shown])}
            </span>
          ))}
        </span>
      </figcaption>
      <div
        ref={box}
        role="img"
        tabIndex={0}
        aria-label={`${title} over ${duration(to - from)}: ${lines
          .map(
            (l) =>
              `${l.name} now ${l.show(l.values.at(-1) ?? 0)}, highest ${l.show(Math.max(0, ...l.values))}`,
          )
          .join("; ")}. Arrow keys read values.`}
        onKeyDown={(e) => {
          if (e.key === "ArrowLeft" || e.key === "ArrowRight") {
            e.preventDefault();
            move(e.key === "ArrowLeft" ? -1 : 1);
          }
        }}
      />
    </figure>
  );
}
