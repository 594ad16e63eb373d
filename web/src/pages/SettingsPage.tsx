import { api, take } from "../api";
import { bytes, count, whole } from "../format";
import { useRead } from "../live";
import { Choice, Panel } from "../parts/Fields";
import { Said } from "../parts/Said";
import { SettingsForm } from "../parts/SettingsForm";
import { usePrefs, type Prefs } from "../prefs";
import { Moment } from "../time";

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
      <Panel title="What new crossings begin with" className="mt-3">
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
