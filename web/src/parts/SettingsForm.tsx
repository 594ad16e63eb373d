import { useState } from "react";
import type { Role, Setting, Settings } from "../api";
import { useRead } from "../live";
import { Act } from "./Act";
import { Choice, Input } from "./Fields";
import { firstError, parseNumber } from "./number";
import { Said } from "./Said";

interface Props {
  settings: Settings;
  save: (changed: Settings) => Promise<unknown>;
  needs?: Role;
  /** Why the settings that shape the plan can no longer be changed. */
  fixed?: string | undefined;
  /** Whether the crossing copies rows: some settings are only for those that do not. */
  copiesRows?: boolean;
}

/** How many of a setting's own unit one of the form's is, and what that is called. */
const units: Partial<Record<Setting["kind"], readonly [per: number, name: string]>> = {
  size: [1e6, ", MB"],
  rate: [1e6, ", MB/s"],
  duration: [1, ", seconds"],
  share: [0.01, ", %"],
};

const unit = (d: Setting) => units[d.kind] ?? ([1, ""] as const);
const isNumber = (d: Setting) => d.kind === "count" || units[d.kind] !== undefined;
/** A number without the digits that only a change of its unit makes. */
const plain = (n: number) => String(Number(n.toPrecision(12)));

/** A setting as a person reads and types it. */
function typed(d: Setting, value: unknown): string {
  if (Array.isArray(value)) return value.join("; ");
  if (typeof value === "number") return plain(value / unit(d)[0]);
  return typeof value === "string" ? value : "";
}

/** What is wrong with a typed number, or the number in the setting's own unit. */
function parsed(d: Setting, text: string): { value?: number; error?: string } {
  const per = unit(d)[0];
  const whole = d.kind === "count";
  const most = d.most === undefined ? {} : { max: d.most / per };
  const { value, error } = parseNumber(text, { whole, min: d.least / per, ...most });
  if (value === undefined) return error === undefined ? {} : { error };
  return { value: d.kind === "size" || d.kind === "rate" ? Math.round(value * per) : value * per };
}

const entries = (text: string) =>
  text
    .split(";")
    .map((x) => x.trim())
    .filter((x) => x !== "");

/** What a setting is for, and what 0 or nothing means. */
const hintOf = (d: Setting) =>
  isNumber(d) && d.zero !== undefined
    ? `${d.help}; 0: ${d.zero}`
    : d.kind === "texts"
      ? `${d.help}; more after a semicolon`
      : d.help;

/** The choices of one setting, for a field elsewhere that takes the same. */
export function useChoices(key: string) {
  const list = useRead("/api/settings", {}, { stale: Infinity });
  return (list.data?.find((d) => d.key === key)?.choices ?? []).map((c) => [c.value, c.label] as const);
}

/** Every setting of a crossing, with its unit and what it is for. Only what was changed is sent. */
export function SettingsForm(props: Props) {
  const list = useRead("/api/settings", {}, { stale: Infinity });
  return (
    <Said of={list} reading="Reading the settings">
      {(all) => <Form {...props} list={all} />}
    </Said>
  );
}

function Form({
  settings,
  save,
  needs = "operator",
  fixed,
  copiesRows = true,
  list,
}: Props & { list: Setting[] }) {
  const [edit, setEdit] = useState<Record<string, string>>({});
  const now = settings as Record<string, unknown>;
  const shown = list.filter((d) => now[d.property] !== undefined && (!d.without_rows || !copiesRows));
  const text = (d: Setting) => edit[d.key] ?? typed(d, now[d.property]);
  const put = (d: Setting, to: string) => {
    setEdit({ ...edit, [d.key]: to });
  };
  const edited = shown.filter((d) => edit[d.key] !== undefined);
  const numbers = edited.filter(isNumber);
  const wrong = firstError(Object.fromEntries(numbers.map((d) => [d.label, parsed(d, text(d))])));
  const changed = (): Settings => {
    const out: Record<string, unknown> = {};
    for (const d of edited) {
      if (isNumber(d)) out[d.property] = parsed(d, text(d)).value;
      else if (d.kind === "texts" || d.kind === "choices") out[d.property] = entries(text(d));
      else out[d.property] = text(d).trim();
    }
    return out as Settings;
  };
  return (
    <>
      {[...new Set(shown.map((d) => d.group))].map((group) => (
        <fieldset key={group} className="mt-3 first:mt-1">
          <legend className="text-sm font-semibold">{group}</legend>
          <div className="mt-1 grid grid-cols-2 gap-x-3 gap-y-2 md:grid-cols-3">
            {shown
              .filter((d) => d.group === group && d.kind !== "choices")
              .map((d) => (
                <Field
                  key={d.key}
                  of={d}
                  value={text(d)}
                  onChange={(to) => {
                    put(d, to);
                  }}
                  fixed={d.live ? undefined : fixed}
                  error={isNumber(d) && edit[d.key] !== undefined ? parsed(d, text(d)).error : undefined}
                />
              ))}
          </div>
          {shown
            .filter((d) => d.group === group && d.kind === "choices")
            .map((d) => (
              <Ticks
                key={d.key}
                of={d}
                value={entries(text(d))}
                onChange={(to) => {
                  put(d, to.join("; "));
                }}
              />
            ))}
        </fieldset>
      ))}
      <div className="mt-3">
        <Act
          needs={needs}
          blocked={edited.length === 0 ? "No changes to save" : wrong}
          act={() => save(changed())}
          onDone={() => {
            setEdit({});
          }}
        >
          Save
        </Act>
      </div>
    </>
  );
}

/** One setting with one value. */
function Field({
  of: d,
  value,
  onChange,
  fixed,
  error,
}: {
  of: Setting;
  value: string;
  onChange: (to: string) => void;
  fixed: string | undefined;
  error: string | undefined;
}) {
  const hint = fixed === undefined ? hintOf(d) : `${d.help} (${fixed})`;
  if (d.kind === "choice")
    return (
      <Choice
        label={d.label}
        hint={hint}
        disabled={fixed !== undefined}
        options={d.choices.map((c) => [c.value, c.label] as const)}
        value={value}
        onChange={onChange}
      />
    );
  return (
    <Input
      label={d.label + unit(d)[1]}
      hint={hint}
      error={error}
      disabled={fixed !== undefined}
      placeholder={isNumber(d) ? undefined : d.zero}
      inputMode={d.kind === "count" ? "numeric" : isNumber(d) ? "decimal" : "text"}
      value={value}
      onChange={(e) => {
        onChange(e.target.value);
      }}
    />
  );
}

/** A setting with several of its choices. */
function Ticks({
  of: d,
  value,
  onChange,
}: {
  of: Setting;
  value: string[];
  onChange: (to: string[]) => void;
}) {
  return (
    <>
      <p className="mt-2 text-sm text-soft">{d.label}</p>
      <div className="flex flex-wrap gap-x-5 text-sm">
        {d.choices.map((c) => (
          <label key={c.value} className="flex items-center gap-2 py-1">
            <input
              type="checkbox"
              checked={value.includes(c.value)}
              onChange={(e) => {
                // In the order of the list, whatever was ticked first.
                const on = (x: string) => (x === c.value ? e.target.checked : value.includes(x));
                onChange(d.choices.map((x) => x.value).filter(on));
              }}
            />
            {c.label}
          </label>
        ))}
      </div>
    </>
  );
}
