import { Pencil } from "lucide-react";
import { useState } from "react";
import {
  api,
  take,
  type ColumnRule,
  type Crossing,
  type PlannedColumn,
  type Rule,
  type TablePlan,
} from "../../api";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Input } from "../../parts/Fields";

const tones: Record<string, string> = {
  exact: "text-reed",
  wider: "text-reed",
  lossy: "text-amber",
  impossible: "font-semibold text-brick",
};

/** The columns of a planned table on both sides; for a draft, how to plan them otherwise. */
export function PlanColumns({
  crossing: c,
  plan: p,
  draft,
}: {
  crossing: Crossing;
  plan: TablePlan;
  draft: boolean;
}) {
  const [editing, setEditing] = useState(false);
  return editing ? (
    <Editor
      crossing={c}
      plan={p}
      done={() => {
        setEditing(false);
      }}
    />
  ) : (
    <>
      <div tabIndex={0} role="region" aria-label="Columns" className="mt-2 max-h-80 overflow-auto">
        <table className="w-full table-fixed text-sm [overflow-wrap:anywhere]">
          <thead>
            <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
              <th className="w-[22%] py-1 pr-3 font-medium">Column</th>
              <th className="py-1 pr-3 font-medium">On the source</th>
              <th className="py-1 pr-3 font-medium">On the target</th>
              <th className="py-1 font-medium">Verdict</th>
            </tr>
          </thead>
          <tbody>
            {p.columns.map((k) => (
              <Line key={k.name} column={k} />
            ))}
          </tbody>
        </table>
      </div>
      {draft && (
        <Button
          className="mt-2"
          onClick={() => {
            setEditing(true);
          }}
        >
          <Pencil size={15} aria-hidden /> Plan it otherwise
        </Button>
      )}
    </>
  );
}

function Line({ column: k }: { column: PlannedColumn }) {
  const verdict =
    k.verdict === "blocks" ? "blocks" : k.mapping === "" ? "left out" : k.carried ? k.mapping : "computed";
  return (
    <tr className="border-t border-line align-top">
      <td className="py-1 pr-3">
        <bdi>{k.name}</bdi>
        {k.key > 0 && <span className="text-xs text-timber"> key {k.key}</span>}
      </td>
      <td className="num py-1 pr-3 text-xs">
        {k.source_type}
        {k.nullable ? "" : " not null"}
      </td>
      <td className="num py-1 pr-3 text-xs">
        {k.target_name !== "" && k.target_name !== k.name && (
          <span className="block">
            <bdi>{k.target_name}</bdi>
          </span>
        )}
        {k.target_type === "" ? "–" : k.target_type}
      </td>
      <td className="py-1 text-xs">
        <span className={verdict === "blocks" ? "font-semibold text-brick" : (tones[verdict] ?? "text-soft")}>
          {verdict}
        </span>
        {k.note !== "" && <span className="block text-soft">{k.note}</span>}
      </td>
    </tr>
  );
}

const text = (s: string | undefined) => (s === undefined || s.trim() === "" ? undefined : s.trim());

/** Writes what a person wants for this table as its own rule, behind the others. */
function Editor({ crossing: c, plan: p, done }: { crossing: Crossing; plan: TablePlan; done: () => void }) {
  const own = c.rules.find((r) => r.tables === p.source) ?? { tables: p.source };
  const [rule, setRule] = useState<Rule>(own);
  const column = (name: string): ColumnRule => rule.columns?.[name] ?? {};
  const set = (name: string, change: ColumnRule) => {
    setRule({ ...rule, columns: { ...rule.columns, [name]: { ...column(name), ...change } } });
  };
  const save = () => {
    const columns: Record<string, ColumnRule> = {};
    for (const [name, k] of Object.entries(rule.columns ?? {})) {
      const kept: ColumnRule = k.leave_out
        ? { leave_out: true }
        : { ...(text(k.name) && { name: text(k.name) }), ...(text(k.type) && { type: text(k.type) }) };
      if (Object.keys(kept).length > 0) columns[name] = kept;
    }
    const mine: Rule = {
      tables: p.source,
      ...(text(rule.schema) && { schema: text(rule.schema) }),
      ...(text(rule.name) && { name: text(rule.name) }),
      ...(text(rule.where) && { where: text(rule.where) }),
      ...(Object.keys(columns).length > 0 && { columns }),
    };
    const others = c.rules.filter((r) => r.tables !== p.source);
    return take(
      api.PUT("/api/crossings/{name}/tables", {
        params: { path: { name: c.name } },
        body: { patterns: c.tables, rules: Object.keys(mine).length > 1 ? [...others, mine] : others },
      }),
    );
  };
  const field = (label: string, key: "schema" | "name" | "where", hint: string) => (
    <Input
      label={label}
      placeholder={hint}
      value={rule[key] ?? ""}
      onChange={(e) => {
        setRule({ ...rule, [key]: e.target.value });
      }}
    />
  );
  return (
    <div className="mt-2">
      <div className="grid grid-cols-2 gap-2">
        {field("Table name on the target", "name", p.target.split(".").slice(1).join("."))}
        {field("Schema on the target", "schema", p.target.split(".")[0] ?? "")}
      </div>
      {c.kind === "load" && field("Only rows where", "where", "a condition in the source’s SQL")}
      <div tabIndex={0} role="region" aria-label="Columns to change" className="mt-2 max-h-80 overflow-auto">
        <table className="w-full table-fixed text-sm [overflow-wrap:anywhere]">
          <thead>
            <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
              <th className="py-1 pr-2 font-medium">Column</th>
              <th className="py-1 pr-2 font-medium">Name there</th>
              <th className="py-1 pr-2 font-medium">Type there</th>
              <th className="w-16 py-1 font-medium">Leave out</th>
            </tr>
          </thead>
          <tbody>
            {p.columns.map((k) => (
              <tr key={k.name} className="border-t border-line">
                <td className="py-1 pr-2 text-xs">
                  <bdi>{k.name}</bdi>
                  <span className="num block text-soft">{k.source_type}</span>
                </td>
                {(["name", "type"] as const).map((what) => (
                  <td key={what} className="py-1 pr-2">
                    <input
                      aria-label={`${what === "name" ? "Name" : "Type"} of ${k.name} on the target`}
                      className="field num block w-full text-xs"
                      placeholder={what === "name" ? k.name : k.target_type}
                      disabled={column(k.name).leave_out}
                      value={column(k.name)[what] ?? ""}
                      onChange={(e) => {
                        set(k.name, { [what]: e.target.value });
                      }}
                    />
                  </td>
                ))}
                <td className="py-1 text-center">
                  <input
                    type="checkbox"
                    aria-label={`Leave ${k.name} out`}
                    disabled={k.key > 0}
                    checked={column(k.name).leave_out ?? false}
                    onChange={(e) => {
                      set(k.name, { leave_out: e.target.checked });
                    }}
                  />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="mt-2 flex flex-wrap gap-2">
        <Act strong act={save} onDone={done}>
          Keep this plan
        </Act>
        <Button onClick={done}>Leave it as it is</Button>
      </div>
      <p className="mt-1 text-xs text-soft">
        Kept as a rule of this table; a survey and a fit check made before no longer count.
      </p>
    </div>
  );
}

/** What a rule does, in words. */
export function ruleText(r: Rule): string {
  const out: string[] = [];
  if (r.schema) out.push(`schema ${r.schema}`);
  if (r.name) out.push(`name ${r.name}`);
  if (r.where) out.push(`only rows where ${r.where}`);
  for (const [name, k] of Object.entries(r.columns ?? {})) {
    out.push(
      k.leave_out
        ? `${name} is left out`
        : `${name}${k.name ? ` becomes ${k.name}` : ""}${k.type ? ` as ${k.type}` : ""}`,
    );
  }
  return out.join(", ");
}
