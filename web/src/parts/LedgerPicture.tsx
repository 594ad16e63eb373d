import { useEffect, useRef, useState, type KeyboardEvent } from "react";
import type { Ledger, LedgerCell } from "../api";
import { count, duration, whole } from "../format";
import { usePrefs } from "../prefs";

const cell = { w: 9, h: 18, gap: 2 };

/** What a cell is, by the chunk in it that matters most. */
const stateOf = (c: LedgerCell) =>
  c.held > 0
    ? "held"
    : c.reading > 0
      ? "reading"
      : c.pending > 0
        ? c.landed > 0
          ? "partly"
          : "pending"
        : "landed";

const say = (c: LedgerCell): string => {
  const name = c.from === c.to ? `chunk ${whole(c.from)}` : `chunks ${whole(c.from)} to ${whole(c.to)}`;
  const states = (["landed", "reading", "pending", "held"] as const)
    .filter((s) => c[s] > 0)
    .map((s) => (c.from === c.to ? s : `${whole(c[s])} ${s}`));
  return `${name}: ${states.join(", ")}${c.seconds > 0 ? `, ${c.from === c.to ? "" : "longest "}${duration(c.seconds)}` : ""}${c.attempts > 1 ? `, ${count(c.attempts, "attempt")}` : ""}`;
};

/**
 * The chunk ledger as a picture: a cell for each run of chunks, in key order. How high a cell is filled says how long
 * its chunk took beside the slowest; sign and shape say its state, so that colour is not needed.
 */
export function LedgerPicture({
  ledger,
  chosen,
  onChoose,
}: {
  ledger: Ledger;
  chosen: number;
  onChoose: (cell: LedgerCell) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(600);
  const [over, setOver] = useState<number>();
  const [{ theme }] = usePrefs();
  const across = Math.max(1, Math.floor((width + cell.gap) / (cell.w + cell.gap)));
  const down = Math.max(1, Math.ceil(ledger.cells.length / across));
  const height = down * (cell.h + cell.gap);
  const at = ledger.cells.findIndex((c) => c.from <= chosen && chosen <= c.to);

  useEffect(() => {
    const el = box.current;
    if (!el) return;
    const seen = new ResizeObserver(() => {
      setWidth(el.clientWidth);
    });
    seen.observe(el);
    return () => {
      seen.disconnect();
    };
  }, []);

  useEffect(() => {
    const el = canvas.current;
    const g = el?.getContext("2d");
    if (!el || !g) return;
    const ratio = window.devicePixelRatio;
    el.width = width * ratio;
    el.height = height * ratio;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    g.clearRect(0, 0, width, height);
    const style = getComputedStyle(document.documentElement);
    const tone = (name: string) => style.getPropertyValue(`--${name}`).trim();
    const colours = {
      landed: tone("reed"),
      partly: tone("reed"),
      reading: tone("honey"),
      pending: tone("soft"),
      held: tone("brick"),
    };
    ledger.cells.forEach((c, i) => {
      const x = (i % across) * (cell.w + cell.gap);
      const y = Math.floor(i / across) * (cell.h + cell.gap);
      const state = stateOf(c);
      g.strokeStyle = colours[state];
      g.fillStyle = colours[state];
      g.lineWidth = 1;
      g.globalAlpha = state === "pending" ? 0.6 : 1;
      g.strokeRect(x + 0.5, y + 0.5, cell.w - 1, cell.h - 1);
      g.globalAlpha = 1;
      if (state === "held") {
        g.fillRect(x, y, cell.w, cell.h);
        g.strokeStyle = tone("sheet");
        g.lineWidth = 1.5;
        g.beginPath();
        g.moveTo(x + 2, y + 5);
        g.lineTo(x + cell.w - 2, y + cell.h - 5);
        g.moveTo(x + cell.w - 2, y + 5);
        g.lineTo(x + 2, y + cell.h - 5);
        g.stroke();
      } else if (state === "reading") {
        for (let k = 2; k < cell.h; k += 4) g.fillRect(x + 1, y + k, cell.w - 2, 2);
      } else if (state !== "pending") {
        const part = c.landed / (c.to - c.from + 1);
        const slow = ledger.slowest_seconds > 0 ? c.seconds / ledger.slowest_seconds : 1;
        const h = Math.max(2, Math.round((cell.h - 2) * (state === "partly" ? part : Math.max(0.12, slow))));
        g.fillRect(x + 1, y + cell.h - 1 - h, cell.w - 2, h);
      }
      if (c.attempts > 1 && state !== "held") {
        g.fillStyle = tone("brick");
        g.fillRect(x + cell.w - 4, y + 1, 3, 3);
      }
      if (i === at) {
        g.strokeStyle = tone("ink");
        g.lineWidth = 2;
        g.strokeRect(x - 0.5, y - 0.5, cell.w + 1, cell.h + 1);
      }
    });
  }, [ledger, across, width, height, at, theme]);

  const place = (e: { clientX: number; clientY: number }) => {
    const r = canvas.current?.getBoundingClientRect();
    if (!r) return undefined;
    const col = Math.floor((e.clientX - r.left) / (cell.w + cell.gap));
    const i = Math.floor((e.clientY - r.top) / (cell.h + cell.gap)) * across + col;
    return col < across && i < ledger.cells.length ? i : undefined;
  };
  const choose = (i: number | undefined) => {
    const c = i === undefined ? undefined : ledger.cells[Math.max(0, Math.min(ledger.cells.length - 1, i))];
    if (c) onChoose(c);
  };
  const steps: Record<string, number> = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -across, ArrowDown: across };
  const onKey = (e: KeyboardEvent) => {
    const step = steps[e.key];
    if (step !== undefined) {
      e.preventDefault();
      choose(at < 0 ? 0 : at + step);
    } else if (e.key === "Home" || e.key === "End") {
      e.preventDefault();
      choose(e.key === "Home" ? 0 : ledger.cells.length - 1);
    }
  };
  const shown = ledger.cells[over ?? at];
  return (
    <div ref={box}>
      <canvas
        ref={canvas}
        role="application"
        aria-roledescription="picture of the chunk ledger"
        aria-label={`${count(ledger.chunks, "chunk")}. ${shown ? say(shown) : ""} Arrow keys move.`}
        tabIndex={0}
        style={{ width, height }}
        className="block cursor-pointer"
        onKeyDown={onKey}
        onMouseMove={(e) => {
          setOver(place(e));
        }}
        onMouseLeave={() => {
          setOver(undefined);
        }}
        onClick={(e) => {
          choose(place(e));
        }}
      />
      <p aria-live="polite" className="num mt-1 min-h-5 text-xs text-soft">
        {shown ? say(shown) : "Point at a cell, or use the arrow keys."}
      </p>
    </div>
  );
}
