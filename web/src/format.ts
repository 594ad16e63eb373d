const group = new Intl.NumberFormat("en", { useGrouping: true, maximumFractionDigits: 0 });

/** A whole number in groups of three. */
export const whole = (n: number): string => group.format(Math.round(n)).replaceAll(",", "\u00a0");

/** A number of things: 1 row, 2 rows. */
export const count = (n: number, thing: string, many = `${thing}s`): string =>
  `${whole(n)} ${n === 1 ? thing : many}`;

/** Bytes with a decimal unit. */
export function bytes(n: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let i = 0;
  while (n >= 999.95 && i < units.length - 1) {
    n /= 1000;
    i++;
  }
  return `${i === 0 ? whole(n) : n.toFixed(n >= 99.95 ? 0 : 1)} ${units[i] ?? ""}`;
}

/** A number short enough for an axis. */
export const short = (n: number): string =>
  n >= 1e6
    ? `${(n / 1e6).toFixed(n >= 1e7 ? 0 : 1)} M`
    : n >= 1e4
      ? `${(n / 1e3).toFixed(0)} k`
      : n > 0 && n < 10
        ? String(Math.round(n * 10) / 10)
        : whole(n);

/** A rate of anything, short enough for an axis. */
export const each = (n: number): string => `${short(n)}/s`;

/** A speed: thousands and millions short, so that it fits an axis. */
export function perSecond(n: number, thing: string): string {
  if (n >= 1e6) return `${(n / 1e6).toFixed(n >= 1e7 ? 0 : 1)} M ${thing}/s`;
  if (n >= 1e4) return `${(n / 1e3).toFixed(0)} k ${thing}/s`;
  return `${whole(n)} ${thing}/s`;
}

/** Seconds as people say them. */
export function duration(s: number): string {
  if (s > 0 && s < 0.00005) return "under 0.1 ms";
  if (s >= 0.00005 && s < 0.00995) return `${(s * 1000).toFixed(1)} ms`;
  if (s < 1) return `${Math.round(s * 1000)} ms`;
  if (s < 60) return `${Number.isInteger(s) ? s : s.toFixed(1)} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

/** How much of a load is done, 0 to 1; whole only when every chunk has landed. */
export function share(p: {
  chunks: number;
  chunks_landed: number;
  bytes: number;
  bytes_estimated: number;
}): number {
  if (p.chunks > 0 && p.chunks === p.chunks_landed) return 1;
  if (p.bytes_estimated === 0) return 0;
  return Math.min(0.99, p.bytes / p.bytes_estimated);
}

export const percent = (x: number): string => `${Math.floor(x * 100)} %`;

// lagValue is the lag, or for how long nobody has measured it: that is not 0.
export function lagValue(p: { lag_seconds: number; lag_age_seconds?: number }): string {
  if (p.lag_age_seconds === undefined) return duration(p.lag_seconds);
  return p.lag_age_seconds < 5 ? "not measured yet" : `not measured for ${duration(p.lag_age_seconds)}`;
}
