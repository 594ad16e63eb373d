import { useEffect, useState } from "react";
import { duration } from "./format";
import { usePrefs, type Prefs } from "./prefs";

/** The time of day in the person's zone, or in UTC if they chose so. */
export const clock = (at: Date, zone: Prefs["clock"]): string =>
  zone === "utc"
    ? `${at.toISOString().slice(11, 19)} UTC`
    : at.toLocaleTimeString([], { hourCycle: "h23", hour: "2-digit", minute: "2-digit", second: "2-digit" });

const day = (at: Date, zone: Prefs["clock"]): string =>
  zone === "utc"
    ? at.toISOString().slice(0, 10)
    : `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`;

/** The present, read anew every few seconds. */
export function useNow(every = 5000): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = setInterval(() => {
      setNow(Date.now());
    }, every);
    return () => {
      clearInterval(t);
    };
  }, [every]);
  return now;
}

const ago = (seconds: number): string => (seconds < 2 ? "just now" : `${duration(Math.floor(seconds))} ago`);

/** A moment: absolute, and with relative also how long ago; UTC on hover. */
export function Moment({
  at,
  relative = false,
  full = false,
}: {
  at: string;
  relative?: boolean;
  /** With the day even when it is today, for what is kept. */
  full?: boolean;
}) {
  const [{ clock: zone }] = usePrefs();
  const now = useNow();
  const t = new Date(at);
  const today = day(t, zone) === day(new Date(now), zone);
  return (
    <time
      dateTime={at}
      title={t.toISOString().replace("T", " ").replace("Z", " UTC")}
      className="whitespace-nowrap"
    >
      {(full || !today) && `${day(t, zone)} `}
      {clock(t, zone)}
      {relative && <span className="text-soft">, {ago((now - t.getTime()) / 1000)}</span>}
    </time>
  );
}
