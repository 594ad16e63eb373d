import { Plus, Trash2 } from "lucide-react";
import { useState, type ReactNode } from "react";
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

interface Edit {
  queries: Query[];
  parameters: { name: string; value: string }[];
  before: string[];
  after: string[];
  carry: Carried[];
}

const begin = (p: Planning): Edit => ({
  queries: p.queries ?? [],
  parameters: Object.entries(p.parameters ?? {}).map(([name, value]) => ({ name, value })),
  before: p.before ?? [],
  after: p.after ?? [],
  carry: p.carry ?? [],
});

const filled = (s: string) => s.trim() !== "";

/** What was edited, and nothing else: the rest stays as it is, to the byte. */
const planning = (e: Partial<Edit>): Planning => ({
  ...(e.queries && {
    queries: e.queries.map((q) => {
      const { key, ...rest } = q;
      const columns = (key ?? []).filter(filled);
      return columns.length > 0 ? { ...rest, key: columns } : rest;
    }),
  }),
  ...(e.parameters && {
    parameters: Object.fromEntries(
      e.parameters.filter((p) => filled(p.name)).map((p) => [p.name.trim().replace(/^:/, ""), p.value]),
    ),
  }),
  ...(e.before && { before: e.before.filter(filled) }),
  ...(e.after && { after: e.after.filter(filled) }),
  ...(e.carry && { carry: e.carry }),
});

/** Texts, each in a field of its own, in their order. */
function List({
  name,
  add,
  hint,
  list,
  draft,
  change,
  field,
}: {
  /** What one of them is. */
  name: string;
  /** What the button says that adds one. */
  add: string;
  hint?: string;
  list: string[];
  draft: boolean;
  change: (list: string[]) => void;
  field: (label: string, value: string, set: (value: string) => void) => ReactNode;
}) {
  return (
    <div className="mt-1">
      {hint && <p className="text-xs text-soft">{hint}</p>}
      {list.map((value, i) => (
        <div key={i} className="mt-1 grid grid-cols-[1fr_auto] items-end gap-2">
          {field(`${name} ${i + 1}`, value, (now) => {
            change(list.map((x, n) => (n === i ? now : x)));
          })}
          {draft && (
            <Button
              aria-label={`Remove ${name.toLowerCase()} ${i + 1}`}
              onClick={() => {
                change(list.filter((_, n) => n !== i));
              }}
            >
              <Trash2 size={15} aria-hidden />
            </Button>
          )}
        </div>
      ))}
      {draft && (
        <Button
          className="mt-1"
          onClick={() => {
            change([...list, ""]);
          }}
        >
          <Plus size={15} aria-hidden /> {add}
        </Button>
      )}
    </div>
  );
}

/** What is planned beside tables: queries, the values of parameters, statements, and what is carried too. */
export function Beside({ crossing: c, draft }: { crossing: Crossing; draft: boolean }) {
  const [edit, setEdit] = useState<Partial<Edit>>();
  const e: Edit = { ...begin(c.planning), ...edit };
  const set = (change: Partial<Edit>) => {
    setEdit({ ...edit, ...change });
  };
  const save = (
    <Act
      strong
      blocked={
        draft
          ? edit
            ? undefined
            : "No changes to save"
          : `The crossing is ${c.phase_label}: its plan is fixed`
      }
      act={() =>
        take(
          api.PUT("/api/crossings/{name}/tables", {
            params: { path: { name: c.name } },
            body: { patterns: c.tables, planning: planning(edit ?? {}) },
          }),
        )
      }
      onDone={() => {
        setEdit(undefined);
      }}
    >
      Save
    </Act>
  );
  return (
    <div className="grid items-start gap-3 lg:grid-cols-2">
      <Panel title="Queries whose rows become tables">
        {c.follow_changes && (
          <p className="mt-1 text-sm text-soft">
            This crossing follows live changes, and no log tells how a query’s rows change. Queries are for
            crossings that do not follow changes.
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
              <Input
                label="Table that its rows become"
                placeholder="schema.table"
                value={q.table}
                onChange={(x) => {
                  change({ table: x.target.value });
                }}
              />
              <List
                name="Key column"
                add="Add a key column"
                hint={(q.key ?? []).length === 0 ? "No key: its rows are matched whole." : ""}
                list={q.key ?? []}
                draft={draft}
                change={(key) => {
                  change({ key });
                }}
                field={(label, value, put) => (
                  <Input
                    label={label}
                    value={value}
                    onChange={(x) => {
                      put(x.target.value);
                    }}
                  />
                )}
              />
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
                    <Trash2 size={15} aria-hidden /> Remove query {i + 1}
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
        {draft && !c.follow_changes && (
          <Button
            className="mt-2"
            onClick={() => {
              set({ queries: [...e.queries, { table: "", query: "" }] });
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
                  aria-label={`Remove parameter ${p.name}`}
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
        {(
          [
            [
              "before",
              "When its tables stand, before the first row",
              "Each by itself and once. The first that fails stops the start.",
            ],
            [
              "after",
              "When the load has ended and its indexes stand",
              "The first that fails holds the crossing; it can be written anew there.",
            ],
          ] as const
        ).map(([when, title, hint]) => (
          <section key={when} aria-label={title} className="mt-2">
            <h3 className="text-sm font-semibold">{title}</h3>
            <List
              name={`Statement ${when} the load,`}
              add={`Add a statement ${when} the load`}
              hint={hint}
              list={e[when]}
              draft={draft}
              change={(list) => {
                set({ [when]: list });
              }}
              field={(label, value, put) => (
                <Text
                  label={label}
                  rows={4}
                  disabled={!draft}
                  value={value}
                  onChange={(x) => {
                    put(x.target.value);
                  }}
                />
              )}
            />
          </section>
        ))}
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
