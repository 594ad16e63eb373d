/** What a number in a form may be. */
export interface Bounds {
  whole?: boolean;
  min?: number;
  max?: number;
  /** Left empty means none. */
  optional?: boolean;
}

/** A number as a person typed it: its value, or what is wrong with it. A comma is a decimal point. */
export function parseNumber(text: string, b: Bounds = {}): { value?: number; error?: string } {
  const typed = text.trim();
  if (typed === "") return b.optional ? {} : { error: "Give a number" };
  if (!/^[+-]?(\d+([.,]\d*)?|[.,]\d+)$/.test(typed)) return { error: `“${typed}” is not a number` };
  const value = Number(typed.replace(",", "."));
  if (b.whole && !Number.isSafeInteger(value)) return { error: "Give a whole number" };
  if (b.min !== undefined && value < b.min) return { error: `Give at least ${b.min}` };
  if (b.max !== undefined && value > b.max) return { error: `Give at most ${b.max}` };
  return { value };
}

/** Why a form cannot be sent: the first field whose number is none. */
export const firstError = (fields: Record<string, { error?: string }>): string | undefined => {
  for (const [name, f] of Object.entries(fields)) if (f.error !== undefined) return `${name}: ${f.error}`;
  return undefined;
};
