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
import { bytes } from "../../format";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Choice, Input } from "../../parts/Fields";
import { firstError, parseNumber } from "../../parts/number";
import { ownRule, withRule } from "../../parts/rules";
import { useChoices } from "../../parts/SettingsForm";

const tones: Record<string, string> = {
  exact: "text-reed",
  wider: "text-reed",
  lossy: "text-amber",
  masked: "text-timber",
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
          <Pencil size={15} aria-hidden /> Edit plan
        </Button>
      )}
    </>
  );
}

function Line({ column: k }: { column: PlannedColumn }) {
  const verdict =
    k.verdict === "blocker" ? "blocker" : k.mapping === "" ? "left out" : k.carried ? k.mapping : "computed";
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
        <span
          className={verdict === "blocker" ? "font-semibold text-brick" : (tones[verdict] ?? "text-soft")}
        >
          {verdict}
        </span>
        {k.note !== "" && <span className="block text-soft">{k.note}</span>}
      </td>
    </tr>
  );
}

const text = (s: string | undefined) => (s === undefined || s.trim() === "" ? undefined : s.trim());

const bytesOfAValue = { whole: true, min: 1, optional: true };

/** A column's rule without what says nothing. */
const cleaned = (k: ColumnRule): ColumnRule =>
  k.leave_out
    ? { leave_out: true }
    : {
        ...(text(k.name) && { name: text(k.name) }),
        ...(text(k.type) && { type: text(k.type) }),
        ...(text(k.mask) && { mask: text(k.mask) }),
        ...(text(k.expression) && { expression: k.expression }),
        ...(k.value !== undefined && { value: k.value }),
        ...(k.longest && { longest: k.longest, ...(k.cut && { cut: true }) }),
      };

/** Writes what a person wants for this table as its own rule. */
function Editor({ crossing: c, plan: p, done }: { crossing: Crossing; plan: TablePlan; done: () => void }) {
  const standing = useChoices("existing_rows");
  const [own] = useState<Rule>(() => ownRule(c.rules, p.source));
  const [rule, setRule] = useState<Rule>(own);
  const [longest, setLongest] = useState<Record<string, string>>({});
  const wrong = firstError(
    Object.fromEntries(
      Object.entries(longest).map(([name, typed]) => [name, parseNumber(typed, bytesOfAValue)]),
    ),
  );
  const [fresh, setFresh] = useState({ name: "", value: "", expression: "" });
  const column = (name: string): ColumnRule => rule.columns?.[name] ?? {};
  const set = (name: string, change: ColumnRule) => {
    setRule({ ...rule, columns: { ...rule.columns, [name]: { ...column(name), ...change } } });
  };
  const added = Object.keys(rule.columns ?? {}).filter((name) => !p.columns.some((k) => k.name === name));
  const save = () => {
    const columns: Record<string, ColumnRule> = {};
    for (const [name, k] of Object.entries(rule.columns ?? {})) {
      const kept = k === own.columns?.[name] ? k : cleaned(k);
      if (Object.keys(kept).length > 0) columns[name] = kept;
    }
    if (text(fresh.name))
      columns[fresh.name.trim()] = text(fresh.expression)
        ? { expression: fresh.expression }
        : { value: fresh.value };
    // What was not edited stays as it is, to the byte.
    const blanked = (["schema", "name", "where", "note", "watermark", "overlap"] as const).filter(
      (key) => rule[key] !== own[key] && !text(rule[key]),
    );
    const mine = Object.fromEntries(
      Object.entries({ ...rule, columns }).filter(
        ([key]) =>
          !blanked.some((b) => b === key) && !(key === "columns" && Object.keys(columns).length === 0),
      ),
    ) as Rule;
    return take(
      api.PUT("/api/crossings/{name}/tables", {
        params: { path: { name: c.name } },
        body: { patterns: c.tables, rules: withRule(c.rules, mine) },
      }),
    );
  };
  const field = (
    label: string,
    key: "schema" | "name" | "where" | "note" | "watermark" | "overlap",
    hint: string,
  ) => (
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
        <Choice
          label="If the target table holds rows"
          options={[["", "as the settings say"], ...standing]}
          value={rule.existing_rows ?? ""}
          onChange={(v) => {
            const rest = { ...rule };
            delete rest.existing_rows;
            setRule(v === "" ? rest : { ...rest, existing_rows: v as NonNullable<Rule["existing_rows"]> });
          }}
        />
        {field("Note", "note", "for people")}
      </div>
      {!c.follow_changes && (
        <div className="mt-2 grid grid-cols-[2fr_1fr_1fr] gap-2">
          {field("Only rows where", "where", "a condition in the source’s SQL")}
          {field("Repeat past column", "watermark", "none: load anew")}
          {field("Read again before it", "overlap", "10m, or 1000")}
        </div>
      )}
      <div tabIndex={0} role="region" aria-label="Columns to change" className="mt-2 max-h-80 overflow-auto">
        <table className="w-full table-fixed text-sm [overflow-wrap:anywhere]">
          <thead>
            <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
              <th className="py-1 pr-2 font-medium">Column</th>
              <th className="py-1 pr-2 font-medium">Name there</th>
              <th className="py-1 pr-2 font-medium">Type there</th>
              <th className="py-1 pr-2 font-medium">Masked by key</th>
              <th className="w-28 py-1 pr-2 font-medium">Longest, bytes</th>
              <th className="w-12 py-1 pr-2 font-medium">Cut</th>
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
                <td className="py-1 pr-2">
                  <input
                    aria-label={`Key that masks ${k.name}`}
                    className="field num block w-full text-xs"
                    placeholder={k.key > 0 ? "not of a key" : "not masked"}
                    disabled={k.key > 0 || column(k.name).leave_out}
                    value={column(k.name).mask ?? ""}
                    onChange={(e) => {
                      set(k.name, { mask: e.target.value });
                    }}
                  />
                </td>
                <td className="py-1 pr-2">
                  <Longest
                    column={k.name}
                    disabled={k.key > 0 || (column(k.name).leave_out ?? false)}
                    typed={longest[k.name] ?? String(column(k.name).longest ?? "")}
                    onType={(typed) => {
                      setLongest({ ...longest, [k.name]: typed });
                      set(k.name, { longest: parseNumber(typed, bytesOfAValue).value });
                    }}
                  />
                </td>
                <td className="py-1 text-center">
                  <input
                    type="checkbox"
                    aria-label={`Cut longer values of ${k.name}`}
                    disabled={!column(k.name).longest || column(k.name).leave_out}
                    checked={column(k.name).cut ?? false}
                    onChange={(e) => {
                      set(k.name, { cut: e.target.checked });
                    }}
                  />
                </td>
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
      {added.length > 0 && (
        <ul className="mt-2 text-sm">
          {added.map((name) => (
            <li key={name} className="flex flex-wrap items-center gap-2 break-words">
              {columnText(name, column(name))}
              <Button
                aria-label={`Remove column ${name}`}
                onClick={() => {
                  const rest = Object.entries(rule.columns ?? {}).filter(([other]) => other !== name);
                  setRule({ ...rule, columns: Object.fromEntries(rest) });
                }}
              >
                Remove
              </Button>
            </li>
          ))}
        </ul>
      )}
      <div className={`mt-2 grid gap-2 ${!c.follow_changes ? "grid-cols-3" : "grid-cols-2"}`}>
        {(
          [
            ["name", "One more column", "its name"],
            ["value", "… with this value in every row", "a text"],
            ["expression", "… or computed by the source as", "in its SQL"],
          ] as const
        ).map(
          ([what, label, hint]) =>
            (what !== "expression" || !c.follow_changes) && (
              <Input
                key={what}
                label={label}
                placeholder={hint}
                value={fresh[what]}
                onChange={(e) => {
                  setFresh({ ...fresh, [what]: e.target.value });
                }}
              />
            ),
        )}
      </div>
      <div className="mt-2 flex flex-wrap gap-2">
        <Act strong act={save} onDone={done} blocked={wrong}>
          Save
        </Act>
        <Button onClick={done}>Cancel</Button>
      </div>
      <p className="mt-1 text-xs text-soft">
        Kept as a rule of this table; a survey and a fit check made before no longer count.
      </p>
    </div>
  );
}

/** How many bytes a value may have. */
function Longest({
  column,
  disabled,
  typed,
  onType,
}: {
  column: string;
  disabled: boolean;
  typed: string;
  onType: (typed: string) => void;
}) {
  const { error } = parseNumber(typed, bytesOfAValue);
  return (
    <>
      <input
        inputMode="numeric"
        aria-label={`Most bytes of a value of ${column}`}
        aria-invalid={error !== undefined}
        className={`field num block w-full text-xs ${error === undefined ? "" : "border-brick"}`}
        placeholder="any"
        disabled={disabled}
        value={typed}
        onChange={(e) => {
          onType(e.target.value);
        }}
      />
      {error && (
        <span role="alert" className="block text-xs text-brick">
          {error}
        </span>
      )}
    </>
  );
}

/** What a rule does, in words. */
export function ruleText(r: Rule): string {
  const out: string[] = [];
  if (r.schema) out.push(`schema ${r.schema}`);
  if (r.name) out.push(`name ${r.name}`);
  if (r.where) out.push(`only rows where ${r.where}`);
  if (r.existing_rows) out.push(`existing rows: ${r.existing_rows}`);
  for (const [what, sql] of Object.entries(r.statements ?? {}))
    out.push(sql === "" ? `${what} is not made` : `${what} is made by hand`);
  for (const [name, k] of Object.entries(r.columns ?? {})) out.push(columnText(name, k));
  if (r.watermark) out.push(`repeats past ${r.watermark}${r.overlap ? ` less ${r.overlap}` : ""}`);
  if (r.note) out.push(`note: ${r.note}`);
  return out.join(", ");
}

function columnText(name: string, k: ColumnRule): string {
  if (k.leave_out) return `${name} is left out`;
  if (k.value !== undefined) return `${name} is always “${k.value}”${k.type ? ` as ${k.type}` : ""}`;
  return [
    name,
    k.name && `becomes ${k.name}`,
    k.type && `as ${k.type}`,
    k.expression && `is read as ${k.expression}`,
    k.mask && `is masked by the key ${k.mask}`,
    k.longest && `holds at most ${bytes(k.longest)}${k.cut ? ", longer values are cut" : ""}`,
  ]
    .filter(Boolean)
    .join(" ");
}
