import { api, take } from "../api";
import { bytes, count, whole } from "../format";
import { useRead } from "../live";
import { useState } from "react";
import { Act } from "../parts/Act";
import { Choice, Panel, Text } from "../parts/Fields";
import { Said } from "../parts/Said";
import { SettingsForm } from "../parts/SettingsForm";
import { ruleText } from "./crossing/PlanColumns";
import { usePrefs, type Prefs } from "../prefs";
import { Moment } from "../time";
import { Webhooks } from "./Webhooks";

export default function SettingsPage() {
  const [prefs, setPrefs] = usePrefs();
  const about = useRead("/api/about");
  const defaults = useRead("/api/defaults");
  return (
    <>
      <title>Settings, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Settings</h1>
      <div className="mt-3 grid items-start gap-3 lg:grid-cols-2">
        <Panel title="This browser">
          <div className="mt-2 grid grid-cols-2 gap-3">
            <Choice
              label="Colours"
              value={prefs.theme}
              onChange={(theme) => {
                setPrefs({ ...prefs, theme: theme as Prefs["theme"] });
              }}
              options={[
                ["system", "as the system has them"],
                ["light", "light"],
                ["dark", "dark"],
              ]}
            />
            <Choice
              label="Times"
              value={prefs.clock}
              onChange={(clock) => {
                setPrefs({ ...prefs, clock: clock as Prefs["clock"] });
              }}
              options={[
                ["local", `in your zone (${Intl.DateTimeFormat().resolvedOptions().timeZone})`],
                ["utc", "in UTC"],
              ]}
            />
          </div>
        </Panel>
        <Panel title="The service">
          <Said of={about} reading="Asking the service">
            {(a) => (
              <dl className="mt-1 grid grid-cols-[10rem_1fr] gap-y-1 text-sm">
                {(
                  [
                    ["Version", `${a.version}, build ${a.build}, ${a.go}`],
                    ["Listens on", a.listen],
                    ["This process", a.worker],
                    ["Control database", `${a.control_version}, ${bytes(a.control_bytes)}`],
                    ["Journal", count(a.journal_entries, "entry", "entries")],
                    ["Readings for charts", whole(a.samples)],
                    ["Workers", whole(a.workers)],
                  ] as const
                ).map(([name, value]) => (
                  <div key={name} className="contents">
                    <dt className="text-soft">{name}</dt>
                    <dd className="num min-w-0 break-words">{value}</dd>
                  </div>
                ))}
                <dt className="text-soft">Runs since</dt>
                <dd>
                  <Moment at={a.started_at} relative />
                </dd>
              </dl>
            )}
          </Said>
        </Panel>
      </div>
      <PolicyPanel />
      <Webhooks />
      <Panel title="Defaults for new crossings" className="mt-3">
        <Said of={defaults} reading="Reading the settings">
          {(s) => (
            <SettingsForm
              settings={s}
              needs="admin"
              save={(body) => take(api.PUT("/api/defaults", { body }))}
            />
          )}
        </Said>
      </Panel>
    </>
  );
}

type Check = "fit check" | "comparison" | "rehearsal";

const checks: readonly (readonly [Check, string])[] = [
  ["fit check", "a fit check of all tables, before the start"],
  ["comparison", "a clean comparison by hashes, before a cutover"],
  ["rehearsal", "a rehearsal within the pause budget, before a cutover"],
];

/** What an organisation says once for all crossings. */
function PolicyPanel() {
  const policy = useRead("/api/policy");
  const settings = useRead("/api/settings", {}, { stale: Infinity });
  const [patterns, setPatterns] = useState<string>();
  const [wanted, setWanted] = useState<Check[]>();
  const [locked, setLocked] = useState<string[]>();
  const ticks = <T extends string>(
    options: readonly (readonly [T, string])[],
    on: T[],
    set: (list: T[]) => void,
  ) =>
    options.map(([name, label]) => (
      <label key={name} className="mr-4 inline-flex items-center gap-1.5 text-sm">
        <input
          type="checkbox"
          checked={on.includes(name)}
          onChange={(e) => {
            set(e.target.checked ? [...on, name] : on.filter((x) => x !== name));
          }}
        />
        {label}
      </label>
    ));
  return (
    <Panel title="Policy for all crossings" className="mt-3">
      <Said of={policy} reading="Reading the policy">
        {(h) => {
          const changed = patterns !== undefined || wanted !== undefined || locked !== undefined;
          return (
            <>
              <Text
                label="Patterns that new crossings begin with, one a line"
                hint="None: every table."
                value={patterns ?? (h.tables ?? []).join("\n")}
                onChange={(e) => {
                  setPatterns(e.target.value);
                }}
              />
              <fieldset className="mt-2">
                <legend className="text-sm text-soft">Must have been done</legend>
                {ticks(checks, wanted ?? h.checks ?? [], setWanted)}
              </fieldset>
              <fieldset className="mt-2">
                <legend className="text-sm text-soft">Locked: crossings cannot override</legend>
                {ticks(
                  [
                    ["tables", "tables"],
                    ["rules", "rules"],
                    ...(settings.data ?? []).map((d) => [d.key, d.key.replaceAll("_", " ")] as const),
                  ],
                  locked ?? h.locked ?? [],
                  setLocked,
                )}
              </fieldset>
              {(h.rules ?? []).length > 0 && (
                <ol className="mt-2 list-decimal pl-5 text-sm" aria-label="Rules of the policy">
                  {(h.rules ?? []).map((r, i) => (
                    <li key={i}>
                      <bdi className="num text-xs">{r.tables}</bdi>: {ruleText(r)}
                    </li>
                  ))}
                </ol>
              )}
              <div className="mt-2 flex flex-wrap items-center gap-3">
                <Act
                  needs="admin"
                  blocked={changed ? undefined : "No changes to save"}
                  act={() =>
                    take(
                      api.PUT("/api/policy", {
                        body: {
                          ...h,
                          tables: (patterns ?? (h.tables ?? []).join("\n"))
                            .split("\n")
                            .map((x) => x.trim())
                            .filter((x) => x !== ""),
                          checks: wanted ?? h.checks ?? [],
                          locked: locked ?? h.locked ?? [],
                        },
                      }),
                    )
                  }
                  onDone={() => {
                    setPatterns(undefined);
                    setWanted(undefined);
                    setLocked(undefined);
                  }}
                >
                  Save policy
                </Act>
                <span className="text-sm text-soft">
                  Rules by which every crossing’s tables are planned are set by ‘dustyferry policy --file’.
                </span>
              </div>
            </>
          );
        }}
      </Said>
    </Panel>
  );
}
