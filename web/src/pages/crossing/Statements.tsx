import { useState } from "react";
import { api, take, type Crossing, type Rule, type TablePlan } from "../../api";
import { count } from "../../format";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Text } from "../../parts/Fields";
import { ownRule, withRule } from "../../parts/rules";

/** The statements that make a table and what belongs to it, as they are run; a draft's can be written by hand. */
export function Statements({
  crossing: c,
  table,
  title,
  objects,
}: {
  crossing: Crossing;
  table: string;
  title: string;
  objects: TablePlan["first"];
}) {
  if (objects.length === 0) return null;
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-sm text-soft">
        {count(objects.length, "statement")} run on the target {title} the load
      </summary>
      <div
        tabIndex={0}
        role="region"
        aria-label={`Statements run ${title} the load`}
        className="mt-1 max-h-96 overflow-auto rounded-sm bg-wash p-2"
      >
        {objects.map((o) => (
          <Statement key={`${o.kind} ${o.name} ${o.statement}`} crossing={c} table={table} object={o} />
        ))}
      </div>
    </details>
  );
}

/** What a person can write by hand; comments and partitions come with their table. */
const byHand = ["table", "index", "unique", "exclude", "foreign"];

function Statement({
  crossing: c,
  table,
  object: o,
}: {
  crossing: Crossing;
  table: string;
  object: TablePlan["first"][number];
}) {
  const [edited, setEdited] = useState<string>();
  const what = o.kind === "table" ? o.kind : `${o.kind} ${o.name}`;
  const own = ownRule(c.rules, table);
  const keep = (sql: string | undefined) => {
    const statements = Object.fromEntries(Object.entries(own.statements ?? {}).filter(([w]) => w !== what));
    if (sql !== undefined) statements[what] = sql;
    const mine: Rule = { ...own, statements };
    if (Object.keys(statements).length === 0) delete mine.statements;
    return take(
      api.PUT("/api/crossings/{name}/tables", {
        params: { path: { name: c.name } },
        body: { patterns: c.tables, rules: withRule(c.rules, mine) },
      }),
    );
  };
  const done = () => {
    setEdited(undefined);
  };
  return (
    <div className="mb-2">
      {edited === undefined ? (
        <pre className="num text-xs whitespace-pre-wrap">{o.statement};</pre>
      ) : (
        <Text
          label={`Statement of ${what}`}
          rows={6}
          value={edited}
          onChange={(e) => {
            setEdited(e.target.value);
          }}
        />
      )}
      {(c.phase === "draft" || c.phase === "surveyed") && byHand.includes(o.kind) && (
        <div className="mt-1 flex flex-wrap gap-2">
          {edited === undefined ? (
            <Button
              aria-label={`Write ${what} by hand`}
              onClick={() => {
                setEdited(o.statement);
              }}
            >
              Write it by hand
            </Button>
          ) : (
            <>
              <Act act={() => keep(edited)} onDone={done}>
                Save
              </Act>
              <Button onClick={done}>Cancel</Button>
            </>
          )}
          {edited === undefined && own.statements?.[what] !== undefined && (
            <Act act={() => keep(undefined)}>As planned again</Act>
          )}
          {edited === undefined && o.kind !== "table" && <Act act={() => keep("")}>Do not make it</Act>}
        </div>
      )}
    </div>
  );
}
