import createClient from "openapi-fetch";
import type { components, paths } from "./api.gen";

export type Crossing = components["schemas"]["Crossing"];
export type Table = components["schemas"]["Table"];
export type Sample = components["schemas"]["Sample"];
export type JournalEntry = components["schemas"]["JournalEntry"];
export type Session = components["schemas"]["Session"];
type Problem = components["schemas"]["Problem"];

export const api = createClient<paths>({ baseUrl: "/" });

/** What the service refused, in its own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

/** Takes an answer's data, or throws what the service said. */
export async function take<T>(
  answer: Promise<{ data?: T; error?: Problem; response: Response }>,
): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new Refused(0, "The service does not answer. It may be restarting; trying again.");
  }
  if (got.error !== undefined || !got.response.ok) {
    throw new Refused(
      got.response.status,
      got.error?.detail ?? `The service answered ${String(got.response.status)}.`,
    );
  }
  return got.data as T;
}
