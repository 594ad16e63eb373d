import type { Cutover } from "../../api";
import { duration } from "../../format";

/** The write pause as one figure, and its steps as bars in time, beside the rehearsal and the budget. */
export function PauseInTime({ k, rehearsed }: { k: Cutover; rehearsed?: number }) {
  const pause = k.write_pause_seconds;
  if (pause === undefined || k.paused_at === undefined) return null;
  const from = Date.parse(k.paused_at) / 1000;
  const beside = k.rehearsal ? undefined : rehearsed;
  const span = Math.max(pause, beside ?? 0) * 1.02 || 1;
  const part = (seconds: number) => `${Math.min(100, Math.max(0, (seconds / span) * 100)).toFixed(2)}%`;
  const bars = k.steps.flatMap((s) => {
    if (s.started_at === undefined || s.seconds === undefined) return [];
    const begins = Date.parse(s.started_at) / 1000 - from;
    const ends = Math.min(begins + s.seconds, pause);
    if (begins + s.seconds <= 0 || begins >= pause) return [];
    return [{ name: s.name, begins: Math.max(begins, 0), ends, state: s.state }];
  });
  return (
    <figure aria-label="The write pause in time" className="mt-2 mb-1">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <strong className="num text-3xl" data-testid="pause">
          {duration(pause)}
        </strong>
        <span className="text-sm text-soft">
          writes paused, of {duration(k.pause_budget_seconds)} at most
          {beside !== undefined ? `; ${duration(beside)} as rehearsed` : ""}
        </span>
      </div>
      <div className="mt-2 grid gap-y-1 text-xs">
        {bars.map((b) => (
          <div key={b.name} className="grid grid-cols-[8.5rem_minmax(0,1fr)_4rem] items-center gap-x-2">
            <span className="truncate text-soft">{b.name}</span>
            <span className="relative block h-3 rounded-sm bg-line/40">
              <span
                className={`absolute inset-y-0 min-w-0.5 rounded-sm ${b.state === "failed" || b.state === "undone" ? "bg-amber" : "bg-honey"}`}
                style={{ left: part(b.begins), width: part(b.ends - b.begins) }}
              />
              {beside !== undefined && (
                <span
                  aria-hidden
                  className="absolute -inset-y-0.5 w-px bg-timber"
                  style={{ left: part(beside) }}
                />
              )}
            </span>
            <span className="num text-right">{duration(b.ends - b.begins)}</span>
          </div>
        ))}
        <div className="grid grid-cols-[8.5rem_minmax(0,1fr)_4rem] gap-x-2 text-soft">
          <span />
          <span className="num flex justify-between">
            <span>0</span>
            <span>{duration(span)}</span>
          </span>
        </div>
      </div>
      {beside !== undefined && (
        <figcaption className="text-xs text-soft">The thin line is the rehearsal.</figcaption>
      )}
    </figure>
  );
}
