import createClient, { createFinalURL, createQuerySerializer, defaultPathSerializer } from "openapi-fetch";
import type { components, paths } from "./api.gen";

type Schemas = components["schemas"];
export type Crossing = Schemas["Crossing"];
export type CrossingPage = Schemas["CrossingPage"];
export type Database = Schemas["Database"];
export type Facts = Schemas["Facts"];
export type Run = Schemas["Run"];
export type Event = Schemas["Event"];
export type Entry = Schemas["Entry"];
export type Table = Schemas["Table"];
export type Setting = Schemas["Setting"];
export type Settings = Schemas["Settings"];
export type JournalEntry = Schemas["JournalEntry"];
export type Finding = Schemas["Finding"];
export type Reconciliation = Schemas["Reconciliation"];
export type Cutover = Schemas["Cutover"];
export type Ledger = Schemas["Ledger"];
export type LedgerCell = Schemas["LedgerCell"];
export type History = Schemas["History"];
export type Review = Schemas["Review"];
export type CatalogTable = Schemas["CatalogTable"];
export type Rule = Schemas["Rule"];
export type ColumnRule = Schemas["ColumnRule"];
export type Planning = Schemas["Planning"];
export type MadeObject = Schemas["MadeObject"];
export type TablePlan = Schemas["TablePlan"];
export type PlannedColumn = Schemas["PlannedColumn"];
/** The phases of a crossing, in the order it goes through them. */
export const phases: Crossing["phase"][] = [
  "draft",
  "surveyed",
  "prepared",
  "loading",
  "catching up",
  "in step",
  "cutting over",
  "cut over",
  "closed",
];
export type Role = Schemas["Role"];
export type Session = Schemas["Session"];
type Problem = Schemas["Problem"];

export const api = createClient<paths>({ baseUrl: "/" });

/** Paths that can be read, with what they answer. */
export type GetPath = {
  [P in keyof paths]: paths[P] extends {
    get: { responses: { 200: { content: { "application/json": unknown } } } };
  }
    ? P
    : never;
}[keyof paths];
type Get<P extends GetPath> = paths[P] extends { get: infer G } ? G : never;
export type Answer<P extends GetPath> =
  Get<P> extends { responses: { 200: { content: { "application/json": infer A } } } } ? A : never;
export type Params = { path?: Record<string, string | number>; query?: Record<string, unknown> };

const serialize = createQuerySerializer({ array: { style: "form", explode: true } });

/** The address of a call: the key of its answer in the cache, and its topic on the event stream. */
export function address(path: GetPath, params: Params = {}): string {
  const query = Object.fromEntries(
    Object.entries(params.query ?? {}).filter(([, v]) => v !== undefined && v !== ""),
  );
  return createFinalURL(path, {
    baseUrl: "",
    params: { path: params.path ?? {}, query },
    querySerializer: serialize,
    pathSerializer: defaultPathSerializer,
  });
}

/** What the service refused, in its own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

const away = "The service does not answer. It may be restarting; trying again.";

/** Reads an address. */
export async function read<T>(url: string, signal?: AbortSignal): Promise<T> {
  let got: Response;
  try {
    got = await fetch(url, { signal: signal ?? null });
  } catch (e) {
    if (signal?.aborted) throw e;
    throw new Refused(0, away);
  }
  if (!got.ok) {
    const problem = (await got.json().catch(() => undefined)) as Problem | undefined;
    throw new Refused(got.status, problem?.detail ?? `The service answered ${got.status}.`);
  }
  return (await got.json()) as T;
}

/** Takes an answer's data, or throws what the service said. */
export async function take<T>(
  answer: Promise<{ data?: T; error?: Problem; response: Response }>,
): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new Refused(0, away);
  }
  if (got.error !== undefined || !got.response.ok) {
    throw new Refused(
      got.response.status,
      got.error?.detail ?? `The service answered ${got.response.status}.`,
    );
  }
  return got.data as T;
}
