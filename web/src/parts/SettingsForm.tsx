import { useState } from "react";
import type { Role, Settings } from "../api";
import { Act } from "./Act";
import { Choice, Input } from "./Fields";
import { firstError, parseNumber, type Bounds } from "./number";

interface Props {
  settings: Settings;
  save: (changed: Settings) => Promise<unknown>;
  needs?: Role;
  /** Why the settings that shape the plan can no longer be changed. */
  fixed?: string | undefined;
  /** Of kind capture: where its changes begin is a setting too. */
  captureOnly?: boolean;
}

/** What can be done with target tables that hold rows. */
export const standingWays = [
  ["refuse", "refuse to start"],
  ["keep", "load beside their rows"],
  ["empty", "empty them at the start"],
  ["replace", "drop and make them anew"],
] as const;

const mega = (n: number | undefined) => String(Math.round((n ?? 0) / 1e3) / 1e3);

/** The numbers of the form, by their fields' names. */
const numbers: Record<string, Bounds & { label: string }> = {
  lanes: { label: "Lanes", whole: true, min: 1, max: 64 },
  chunk: { label: "Chunk size", min: 0.065536 },
  limit: { label: "Speed limit", min: 0 },
  attempts: { label: "Tries of a chunk", whole: true, min: 1, max: 100 },
  least: { label: "Least lanes", whole: true, min: 0, max: 64 },
  rows: { label: "Row limit", whole: true, min: 0 },
  share: { label: "Share of time spent reading", min: 0, max: 100 },
  quietSpeed: { label: "Speed in quiet hours", min: 0 },
  badLimit: { label: "Set aside at most", whole: true, min: 1, max: 1_000_000 },
  build: { label: "Indexes built at once", whole: true, min: 1, max: 32 },
  batch: { label: "Changes folded into one write", whole: true, min: 1, max: 1_000_000 },
  lag: { label: "In step when lag is under", min: 0 },
  dwell: { label: "In step for at least", min: 0 },
  lagLimit: { label: "Alert when lag exceeds", min: 0 },
  retained: { label: "Log kept by the source", min: 0 },
  budget: { label: "Pause budget", min: 1 },
};

/** Every setting of a crossing, with its unit and what it is for. Only what was changed is sent. */
export function SettingsForm({ settings: s, save, needs = "operator", fixed, captureOnly }: Props) {
  const [edit, setEdit] = useState<Record<string, string>>({});
  const holds = new Set<string>(s.hold_points ?? []);
  const text = (name: string, now: string) => ({
    value: edit[name] ?? now,
    onChange: (e: { target: { value: string } }) => {
      setEdit({ ...edit, [name]: e.target.value });
    },
  });
  const choice = (name: string, now: string) => ({
    value: edit[name] ?? now,
    onChange: (v: string) => {
      setEdit({ ...edit, [name]: v });
    },
  });
  const point = (name: "stop writes" | "close source") =>
    (edit[`hold ${name}`] ?? (holds.has(name) ? "yes" : "no")) === "yes";
  const parsed = (name: string) => parseNumber(edit[name] ?? "", numbers[name] ?? {});
  /** A field for a number: what is wrong with it is said beside it. */
  const digits = (name: string, now: string) => ({
    ...text(name, now),
    inputMode: numbers[name]?.whole ? ("numeric" as const) : ("decimal" as const),
    error: edit[name] === undefined ? undefined : parsed(name).error,
  });
  const wrong = firstError(
    Object.fromEntries(
      Object.keys(numbers)
        .filter((name) => edit[name] !== undefined)
        .map((name) => [numbers[name]?.label ?? name, parsed(name)]),
    ),
  );
  const changed = (): Settings => {
    const out: Settings = {};
    const number = (name: string, to: (n: number) => void) => {
      const { value } = parsed(name);
      if (value !== undefined) to(value);
    };
    number("lanes", (n) => (out.lanes = n));
    number("chunk", (n) => (out.chunk_bytes = Math.round(n * 1e6)));
    number("limit", (n) => (out.speed_limit = Math.round(n * 1e6)));
    number("attempts", (n) => (out.max_attempts = n));
    number("least", (n) => (out.least_lanes = n));
    number("rows", (n) => (out.row_limit = n));
    number("share", (n) => (out.source_share = n / 100));
    number("quietSpeed", (n) => (out.quiet_speed = Math.round(n * 1e6)));
    number("badLimit", (n) => (out.bad_rows_limit = n));
    number("build", (n) => (out.build_lanes = n));
    if (edit.bad) out.bad_rows = edit.bad as NonNullable<Settings["bad_rows"]>;
    if (edit.repeat) out.repeat = edit.repeat as NonNullable<Settings["repeat"]>;
    if (edit.quiet !== undefined)
      out.quiet_hours = edit.quiet
        .split(";")
        .map((h) => h.trim())
        .filter((h) => h !== "");
    if (edit.zone !== undefined) out.quiet_zone = edit.zone.trim();
    if (edit.label !== undefined) out.worker_label = edit.label.trim();
    number("batch", (n) => (out.batch_changes = n));
    number("lag", (n) => (out.in_step_lag_seconds = n));
    number("lagLimit", (n) => (out.lag_limit_seconds = n));
    number("retained", (n) => (out.retained_limit = Math.round(n * 1e6)));
    if (edit.columns) out.column_changes = edit.columns as NonNullable<Settings["column_changes"]>;
    if (edit.over) out.retained_over = edit.over as NonNullable<Settings["retained_over"]>;
    if (edit.startFrom !== undefined) out.start_from = edit.startFrom.trim();
    if (edit.slot !== undefined) out.slot = edit.slot.trim();
    if (edit.stopAt !== undefined) out.stop_at = edit.stopAt.trim();
    number("dwell", (n) => (out.in_step_dwell_seconds = n));
    number("budget", (n) => (out.pause_budget_seconds = n));
    if (edit.stop) out.stop_method = edit.stop as NonNullable<Settings["stop_method"]>;
    if (edit.depth) out.cutover_depth = edit.depth as NonNullable<Settings["cutover_depth"]>;
    if (edit.fill) out.non_empty_target = edit.fill as NonNullable<Settings["non_empty_target"]>;
    if (edit.url !== undefined) out.handover_url = edit.url;
    if (edit.command !== undefined) out.handover_command = edit.command;
    if (Object.keys(edit).some((k) => k.startsWith("hold ")))
      out.hold_points = (["stop writes", "close source"] as const).filter(point);
    return out;
  };
  return (
    <>
      <fieldset className="mt-1">
        <legend className="text-sm font-semibold">Load</legend>
        <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
          <Input label="Lanes" hint="parallel paths, 1 to 64" {...digits("lanes", String(s.lanes ?? 1))} />
          <Input
            label="Speed limit, MB/s"
            hint="over all lanes of a process; 0 for none"
            {...digits("limit", mega(s.speed_limit))}
          />
          <Input
            label="Chunk size, MB"
            hint={fixed ?? "aimed at; what a failure repeats"}
            disabled={fixed !== undefined}
            {...digits("chunk", mega(s.chunk_bytes))}
          />
          <Input
            label="Tries of a chunk"
            hint={fixed ?? "before its table is held"}
            disabled={fixed !== undefined}
            {...digits("attempts", String(s.max_attempts ?? 0))}
          />
          <Choice
            label="Target tables that hold rows"
            disabled={fixed !== undefined}
            options={standingWays}
            {...choice("fill", s.non_empty_target ?? "refuse")}
          />
          <Choice
            label="A load that is done again"
            options={[
              ["empty first", "empties its tables first"],
              ["in place", "replaces rows in place"],
            ]}
            {...choice("repeat", s.repeat ?? "empty first")}
          />
          <Choice
            label="Rows that the target cannot take"
            options={[
              ["hold", "hold their table"],
              ["set aside", "set aside, the rest lands"],
            ]}
            {...choice("bad", s.bad_rows ?? "hold")}
          />
          <Input
            label="Set aside at most"
            hint="rows of a table, then it is held"
            {...digits("badLimit", String(s.bad_rows_limit ?? 0))}
          />
          <Input label="Indexes built at once" {...digits("build", String(s.build_lanes ?? 0))} />
        </div>
      </fieldset>
      <fieldset className="mt-3">
        <legend className="text-sm font-semibold">Pace</legend>
        <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
          <Input
            label="Least lanes"
            hint="the number is found between it and Lanes; 0: always Lanes"
            {...digits("least", String(s.least_lanes ?? 0))}
          />
          <Input label="Row limit, rows/s" hint="0 for none" {...digits("rows", String(s.row_limit ?? 0))} />
          <Input
            label="At most this share of time spent reading the source, %"
            hint="of each lane; 0 for all"
            {...digits("share", String(Math.round((s.source_share ?? 0) * 1000) / 10))}
          />
          <Input label="Label of workers" placeholder="any" {...text("label", s.worker_label ?? "")} />
          <Input
            label="Quiet hours"
            hint="mon-fri 08:00-18:00; more after a semicolon"
            placeholder="none"
            {...text("quiet", (s.quiet_hours ?? []).join("; "))}
          />
          <Input label="Their time zone" placeholder="UTC" {...text("zone", s.quiet_zone ?? "")} />
          <Input
            label="Speed in them, MB/s"
            hint="0: no chunk begins"
            {...digits("quietSpeed", mega(s.quiet_speed))}
          />
        </div>
      </fieldset>
      <fieldset className="mt-3">
        <legend className="text-sm font-semibold">Changes</legend>
        <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
          <Input
            label="In step when lag is under, seconds"
            {...digits("lag", String(s.in_step_lag_seconds ?? 0))}
          />
          <Input label="For at least, seconds" {...digits("dwell", String(s.in_step_dwell_seconds ?? 0))} />
          <Input
            label="Alert when lag exceeds, seconds"
            hint="0: never; journal and webhooks"
            {...digits("lagLimit", String(s.lag_limit_seconds ?? 0))}
          />
          <Input
            label="Changes folded into one write"
            hint={fixed ?? "at most"}
            disabled={fixed !== undefined}
            {...digits("batch", String(s.batch_changes ?? 0))}
          />
          <Choice
            label="Changes of columns on the source"
            options={[
              ["hold", "hold the crossing"],
              ["carry", "carry over what is safe"],
            ]}
            {...choice("columns", s.column_changes ?? "hold")}
          />
          <Input
            label="Log kept by the source, MB"
            hint="limit; 0 for none"
            {...digits("retained", mega(s.retained_limit))}
          />
          <Choice
            label="Above that limit"
            options={[
              ["go on", "go on, and tell people"],
              ["release", "release it and hold"],
            ]}
            {...choice("over", s.retained_over ?? "go on")}
          />
          <Input
            label="Stop at"
            hint="a time (RFC 3339) or log position"
            placeholder="never"
            {...text("stopAt", s.stop_at ?? "")}
          />
          {captureOnly && (
            <>
              <Input
                label="Changes from"
                hint={fixed ?? "log position or GTID at which the target's rows stand"}
                disabled={fixed !== undefined}
                placeholder="now"
                {...text("startFrom", s.start_from ?? "")}
              />
              <Input
                label="Replication slot"
                hint={fixed ?? "one that stands on a PostgreSQL source"}
                disabled={fixed !== undefined}
                placeholder="one is made at the start"
                {...text("slot", s.slot ?? "")}
              />
            </>
          )}
        </div>
      </fieldset>
      <fieldset className="mt-3">
        <legend className="text-sm font-semibold">Cutover</legend>
        <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
          <Input
            label="Pause budget, seconds"
            hint="a longer write pause undoes everything"
            {...digits("budget", String(s.pause_budget_seconds ?? 0))}
          />
          <Choice
            label="Writes are stopped by"
            options={[
              ["lock", "holding the tables' locks"],
              ["read-only", "making the database read-only"],
              ["word", "a person's word"],
            ]}
            {...choice("stop", s.stop_method ?? "lock")}
          />
          <Choice
            label="Compared inside the pause"
            options={[
              ["hashes", "counts and hashes"],
              ["counts", "counts"],
              ["none", "nothing"],
            ]}
            {...choice("depth", s.cutover_depth ?? "hashes")}
          />
          <Input label="Webhook at hand-over" placeholder="none" {...text("url", s.handover_url ?? "")} />
          {s.handover_command !== undefined && (
            <Input
              label="Command at hand-over"
              hint="needs the admin role"
              placeholder="none"
              {...text("command", s.handover_command)}
            />
          )}
        </div>
        <p className="mt-2 text-sm text-soft">Hold points: the cutover waits for a person before it would</p>
        <div className="flex flex-wrap gap-x-5 text-sm">
          {(
            [
              ["stop writes", "stop writes (capture goes on, nothing is paused yet)"],
              ["close source", "close the source (inside the write pause: its budget runs)"],
            ] as const
          ).map(([name, label]) => (
            <label key={name} className="flex items-center gap-2 py-1">
              <input
                type="checkbox"
                checked={point(name)}
                onChange={(e) => {
                  setEdit({ ...edit, [`hold ${name}`]: e.target.checked ? "yes" : "no" });
                }}
              />
              {label}
            </label>
          ))}
        </div>
      </fieldset>
      <div className="mt-3">
        <Act
          needs={needs}
          blocked={Object.keys(edit).length === 0 ? "No changes to save" : wrong}
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
