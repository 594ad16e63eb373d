const group = new Intl.NumberFormat("en", { useGrouping: true, maximumFractionDigits: 0 });

/** A whole number in groups of three. */
export const whole = (n: number): string => group.format(Math.round(n)).replaceAll(",", "\u00a0");

/** Bytes with a decimal unit. */
export function bytes(n: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  let i = 0;
  while (n >= 1000 && i < units.length - 1) {
    n /= 1000;
    i++;
  }
  return `${i === 0 ? whole(n) : n.toFixed(1)} ${units[i] ?? ""}`;
}

/** Seconds as people say them. */
export function duration(s: number): string {
  if (s < 1) return `${String(Math.round(s * 1000))} ms`;
  if (s < 60) return `${s.toFixed(1)} s`;
  if (s < 3600) return `${String(Math.floor(s / 60))} min ${String(Math.floor(s % 60))} s`;
  return `${String(Math.floor(s / 3600))} h ${String(Math.floor((s % 3600) / 60))} min`;
}

/** A time of day in the person's zone. */
export const clock = (iso: string): string => new Date(iso).toLocaleTimeString([], { hour12: false });

/** The same moment in UTC, for the hover. */
export const utc = (iso: string): string => new Date(iso).toISOString();

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

export const percent = (x: number): string => `${String(Math.floor(x * 100))} %`;
