import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Crossing, type Planning } from "../../api";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Input, Panel, Text } from "../../parts/Fields";
import { Nothing } from "../../parts/Said";

type Query = NonNullable<Planning["queries"]>[number];
type Carried = NonNullable<Planning["carry"]>[number];

const kinds: readonly (readonly [Carried, string])[] = [
  ["views", "Views"],
  ["routines", "Routines"],
  ["triggers", "Triggers, at cutover"],
];

/** One statement a line block; an empty line parts two. */
const split = (s: string) =>
  s
    .split(/\n\s*\n/)
    .map((x) => x.trim())
    .filter((x) => x !== "");

interface Edit {
  queries: { table: string; query: string; key: string }[];
  parameters: { name: string; value: string }[];
  before: string;
  after: string;
  carry: Carried[];
}

const begin = (p: Planning): Edit => ({
  queries: (p.queries ?? []).map((q) => ({ table: q.table, query: q.query, key: (q.key ?? []).join(", ") })),
  parameters: Object.entries(p.parameters ?? {}).map(([name, value]) => ({ name, value })),
  before: (p.before ?? []).join("\n\n"),
  after: (p.after ?? []).join("\n\n"),
  carry: p.carry ?? [],
});

function planning(e: Edit): Planning {
  const queries = e.queries.map((q): Query => {
    const key = q.key.split(/[\s,]+/).filter((k) => k !== "");
    return { table: q.table.trim(), query: q.query.trim(), ...(key.length > 0 && { key }) };
  });
  const parameters = Object.fromEntries(
    e.parameters.filter((p) => p.name.trim() !== "").map((p) => [p.name.trim().replace(/^:/, ""), p.value]),
  );
  return {
    ...(queries.length > 0 && { queries }),
    ...(Object.keys(parameters).length > 0 && { parameters }),
    ...(split(e.before).length > 0 && { before: split(e.before) }),
    ...(split(e.after).length > 0 && { after: split(e.after) }),
    ...(e.carry.length > 0 && { carry: e.carry }),
  };
}

/** What is planned beside tables: queries, the values of parameters, statements, and what is carried too. */
export function Beside({ crossing: c, draft }: { crossing: Crossing; draft: boolean }) {
  const [edit, setEdit] = useState<Edit>();
  const e = edit ?? begin(c.planning);
  const set = (change: Partial<Edit>) => {
    setEdit({ ...e, ...change });
  };
  const save = (
    <Act
      strong
      blocked={
        draft ? (edit ? undefined : "Nothing was changed") : `The crossing is ${c.phase}: its plan is fixed`
      }
      act={() =>
        take(
          api.PUT("/api/crossings/{name}/tables", {
            params: { path: { name: c.name } },
            body: { patterns: c.tables, planning: planning(e) },
          }),
        )
      }
      onDone={() => {
        setEdit(undefined);
      }}
    >
      Keep it
    </Act>
  );
  return (
    <div className="grid items-start gap-3 lg:grid-cols-2">
      <Panel title="Queries whose rows become tables">
        {c.kind !== "load" && (
          <p className="mt-1 text-sm text-soft">
            This crossing follows live changes, and no log tells how a query’s rows change. Queries are for
            crossings of kind load.
          </p>
        )}
        {e.queries.length === 0 && <Nothing>No query is planned.</Nothing>}
        {e.queries.map((q, i) => {
          const change = (to: Partial<typeof q>) => {
            set({ queries: e.queries.map((x, n) => (n === i ? { ...x, ...to } : x)) });
          };
          return (
            <fieldset key={i} disabled={!draft} className="mt-2 border-t border-line pt-2">
              <legend className="sr-only">Query {i + 1}</legend>
              <div className="grid grid-cols-2 gap-2">
                <Input
                  label="Table that its rows become"
                  placeholder="schema.table"
                  value={q.table}
                  onChange={(x) => {
                    change({ table: x.target.value });
                  }}
                />
                <Input
                  label="Key columns"
                  placeholder="none: rows are matched whole"
                  value={q.key}
                  onChange={(x) => {
                    change({ key: x.target.value });
                  }}
                />
              </div>
              <Text
                label="SELECT, in the source’s SQL"
                className="mt-1"
                rows={5}
                value={q.query}
                onChange={(x) => {
                  change({ query: x.target.value });
                }}
              />
              <div className="mt-1 flex flex-wrap items-center gap-3">
                {draft && (
                  <Button
                    onClick={() => {
                      set({ queries: e.queries.filter((_, n) => n !== i) });
                    }}
                  >
                    <Trash2 size={15} aria-hidden /> Take query {i + 1} away
                  </Button>
                )}
                {edit === undefined && (
                  <Link
                    className="link text-sm"
                    to={`/crossings/${encodeURIComponent(c.name)}/plan?table=${encodeURIComponent(q.table)}`}
                  >
                    Its plan and first rows
                  </Link>
                )}
              </div>
            </fieldset>
          );
        })}
        {draft && c.kind === "load" && (
          <Button
            className="mt-2"
            onClick={() => {
              set({ queries: [...e.queries, { table: "", query: "", key: "" }] });
            }}
          >
            <Plus size={15} aria-hidden /> Add a query
          </Button>
        )}
        <h3 className="mt-3 text-sm font-semibold">Parameters</h3>
        <p className="text-xs text-soft">
          Stand for :name in queries, conditions and expressions. Texts, numbers, or times such as “today - 7
          days” and “now - 2 hours”, in UTC, told anew at each start.
        </p>
        {e.parameters.map((p, i) => {
          const change = (to: Partial<typeof p>) => {
            set({ parameters: e.parameters.map((x, n) => (n === i ? { ...x, ...to } : x)) });
          };
          return (
            <div key={i} className="mt-1 grid grid-cols-[1fr_2fr_auto] items-end gap-2">
              <Input
                label="Name"
                disabled={!draft}
                value={p.name}
                onChange={(x) => {
                  change({ name: x.target.value });
                }}
              />
              <Input
                label="Value"
                disabled={!draft}
                value={p.value}
                onChange={(x) => {
                  change({ value: x.target.value });
                }}
              />
              {draft && (
                <Button
                  aria-label={`Take parameter ${p.name} away`}
                  onClick={() => {
                    set({ parameters: e.parameters.filter((_, n) => n !== i) });
                  }}
                >
                  <Trash2 size={15} aria-hidden />
                </Button>
              )}
            </div>
          );
        })}
        {draft && (
          <Button
            className="mt-2"
            onClick={() => {
              set({ parameters: [...e.parameters, { name: "", value: "" }] });
            }}
          >
            <Plus size={15} aria-hidden /> Add a parameter
          </Button>
        )}
      </Panel>
      <Panel title={`Statements that run on ${c.target}`}>
        <Text
          label="When its tables stand, before the first row"
          hint="Each by itself and once; an empty line parts two. The first that fails stops the start."
          className="mt-1"
          rows={5}
          disabled={!draft}
          value={e.before}
          onChange={(x) => {
            set({ before: x.target.value });
          }}
        />
        <Text
          label="When the load has ended and its indexes stand"
          hint="The first that fails holds the crossing; it can be written anew there."
          className="mt-2"
          rows={5}
          disabled={!draft}
          value={e.after}
          onChange={(x) => {
            set({ after: x.target.value });
          }}
        />
        <fieldset className="mt-3" disabled={!draft}>
          <legend className="text-sm font-semibold">Carried too</legend>
          <p className="text-xs text-soft">
            To a target of the same engine, as the source defines them; what cannot be made there is told and
            stops nothing.
          </p>
          {kinds.map(([kind, label]) => (
            <label key={kind} className="mr-4 inline-flex items-center gap-1.5 text-sm">
              <input
                type="checkbox"
                checked={e.carry.includes(kind)}
                onChange={(x) => {
                  set({
                    carry: x.target.checked ? [...e.carry, kind] : e.carry.filter((k) => k !== kind),
                  });
                }}
              />
              {label}
            </label>
          ))}
        </fieldset>
      </Panel>
      <div className="flex flex-wrap items-center gap-3 lg:col-span-2">
        {save}
        <span className="text-sm text-soft">
          Both sides are kept together; a survey and a fit check made before no longer count.
        </span>
      </div>
    </div>
  );
}
