import { useState } from "react";
import { api, take, type Crossing, type Run } from "../../api";
import { bytes, duration, perSecond, whole } from "../../format";
import { useLive, useRead } from "../../live";
import { Act } from "../../parts/Act";
import { Choice, Input, Panel } from "../../parts/Fields";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";

/** Every time that the load ran, each beside the one before, and when it runs next. */
export function Runs({ crossing: c }: { crossing: Crossing }) {
  const runs = useLive("/api/crossings/{name}/runs", { path: { name: c.name } });
  const tables = useLive(
    "/api/crossings/{name}/tables",
    { path: { name: c.name }, query: { limit: 1 } },
    { enabled: !c.follow_changes },
  );
  // Tables without a watermark are loaded anew by a refresh.
  const marked = c.rules.filter((r) => r.watermark).length;
  const clears = marked === 0 || (tables.data?.total ?? 0) > marked;
  return (
    <div className="grid items-start gap-3 lg:grid-cols-[minmax(0,1fr)_320px]">
      <Panel title="Runs of the load">
        {c.phase === "in step" && c.rules.some((r) => r.watermark) && (
          <Act
            confirm={{
              title: `Refresh ${c.name}?`,
              verb: "Refresh now",
              ...(clears && { typed: c.target }),
              body: `Rows past the watermarks replace those with the same keys on ${c.target}. ${
                c.settings.repeat === "in place"
                  ? "All rows of tables without a watermark are replaced in place."
                  : "Tables without a watermark are emptied and loaded again."
              }`,
            }}
            act={(confirm) =>
              take(
                api.POST("/api/crossings/{name}/refresh", {
                  params: { path: { name: c.name } },
                  body: clears ? { confirm } : {},
                }),
              )
            }
          >
            Refresh now
          </Act>
        )}
        <Said of={runs} reading="Reading the runs">
          {(list) =>
            list.length === 0 ? (
              <Nothing>It has not run yet.</Nothing>
            ) : (
              <div tabIndex={0} role="region" aria-label="Runs" className="mt-1 overflow-x-auto">
                <table className="w-full text-sm">
                  <thead>
                    <tr className="text-left text-xs text-soft">
                      <th className="py-1 pr-4 font-medium">Began</th>
                      <th className="py-1 pr-4 font-medium">By</th>
                      <th className="py-1 pr-4 font-medium">State</th>
                      <th className="py-1 pr-4 text-right font-medium">Took</th>
                      <th className="py-1 pr-4 text-right font-medium">Rows</th>
                      <th className="py-1 pr-4 text-right font-medium">Change</th>
                      <th className="py-1 pr-4 text-right font-medium">Size</th>
                      <th className="py-1 pr-4 text-right font-medium">Speed</th>
                      <th className="py-1 text-right font-medium">Rejected</th>
                    </tr>
                  </thead>
                  <tbody>
                    {list.map((r, i) => (
                      <Line key={r.id} run={r} before={list.slice(i + 1).find((o) => o.state === "done")} />
                    ))}
                  </tbody>
                </table>
              </div>
            )
          }
        </Said>
      </Panel>
      <Schedule crossing={c} />
    </div>
  );
}

const tones: Record<Run["state"], string> = {
  due: "text-soft",
  asked: "text-soft",
  running: "text-timber",
  done: "text-reed",
  "given up": "text-soft",
  skipped: "text-amber",
  failed: "font-semibold text-brick",
};

function Line({ run: r, before }: { run: Run; before: Run | undefined }) {
  const seconds = r.ended_at ? (Date.parse(r.ended_at) - Date.parse(r.started_at)) / 1000 : 0;
  const done = r.state === "done";
  const more = before ? r.rows - before.rows : 0;
  return (
    <tr className="border-t border-line align-top">
      <td className="py-1.5 pr-4 whitespace-nowrap">
        <Moment at={r.started_at} />
      </td>
      <td className="py-1.5 pr-4">{r.by}</td>
      <td className="py-1.5 pr-4">
        <span className={tones[r.state]}>{r.state}</span>
        {r.note !== "" && <span className="block text-xs break-words text-soft">{r.note}</span>}
        {r.times !== undefined && (
          <span className="block text-xs text-soft">
            {r.times} times in a row, last
            {r.due_at && (
              <>
                {" "}
                <Moment at={r.due_at} />
              </>
            )}
          </span>
        )}
      </td>
      <td className="num py-1.5 pr-4 text-right">{done ? duration(seconds) : ""}</td>
      <td className="num py-1.5 pr-4 text-right">{done ? whole(r.rows) : ""}</td>
      <td className="num py-1.5 pr-4 text-right">
        {done && before ? `${more > 0 ? "+" : ""}${whole(more)}` : ""}
      </td>
      <td className="num py-1.5 pr-4 text-right">{done ? bytes(r.bytes) : ""}</td>
      <td className="num py-1.5 pr-4 text-right">
        {done ? perSecond(r.rows / Math.max(seconds, 0.001), "rows") : ""}
      </td>
      <td className={`num py-1.5 text-right ${r.rejected > 0 ? "text-amber" : ""}`}>
        {done ? whole(r.rejected) : ""}
      </td>
    </tr>
  );
}

function Schedule({ crossing: c }: { crossing: Crossing }) {
  const path = { path: { name: c.name } };
  const schedule = useRead("/api/crossings/{name}/schedule", path);
  const repeats = !c.follow_changes;
  const [cron, setCron] = useState("");
  const [at, setAt] = useState("");
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone);
  const [missed, setMissed] = useState<"run once" | "skip">("run once");
  const started = c.phase !== "draft" && c.phase !== "surveyed";
  const once = at !== "";
  return (
    <Panel title="Schedule">
      <Said of={schedule} reading="Reading the schedule">
        {(s) =>
          s.cron === "" && s.at === undefined ? (
            <p className="mt-1 text-sm text-soft">None: it starts by a person’s hand.</p>
          ) : (
            <>
              <p className="mt-1 text-sm">
                {s.cron === "" ? "Once" : <code className="num">{s.cron}</code>}
                {s.cron !== "" && `, by the clock of ${s.zone === "" ? "UTC" : s.zone}; missed: ${s.missed}`};
                next {s.next_at ? <Moment at={s.next_at} /> : "nothing more"}; set by {s.actor}
              </p>
              {s.paused_by !== undefined && (
                <p className="text-sm text-amber">Paused by {s.paused_by}: what is due is skipped.</p>
              )}
              <span className="flex flex-wrap gap-2">
                {s.paused_by === undefined ? (
                  <Act act={() => take(api.POST("/api/crossings/{name}/schedule/pause", { params: path }))}>
                    Pause the schedule
                  </Act>
                ) : (
                  <Act act={() => take(api.POST("/api/crossings/{name}/schedule/resume", { params: path }))}>
                    Resume the schedule
                  </Act>
                )}
                <Act act={() => take(api.DELETE("/api/crossings/{name}/schedule", { params: path }))}>
                  Remove it
                </Act>
              </span>
            </>
          )
        }
      </Said>
      <div className="mt-2 grid gap-2 border-t border-line pt-2">
        {!started && (
          <Input
            label="Start once, in your own time"
            type="datetime-local"
            value={at}
            onChange={(e) => {
              setAt(e.target.value);
            }}
          />
        )}
        {repeats && (
          <>
            <Input
              label={started ? "Load anew by" : "Or load anew by"}
              hint="minute, hour, day of month, month, day of week: 0 2 * * 1-5"
              placeholder="0 2 * * *"
              value={cron}
              onChange={(e) => {
                setCron(e.target.value);
              }}
            />
            <Input
              label="In the time zone"
              value={zone}
              onChange={(e) => {
                setZone(e.target.value);
              }}
            />
          </>
        )}
        <Choice
          label="Missed runs"
          value={missed}
          onChange={(v) => {
            setMissed(v as typeof missed);
          }}
          options={[
            ["run once", "run once when the service is back"],
            ["skip", "skipped"],
          ]}
        />
        <Act
          blocked={
            !once && cron === ""
              ? repeats || !started
                ? "Give a time or a cron expression"
                : "It follows changes: there is nothing to repeat"
              : undefined
          }
          act={() =>
            take(
              api.PUT("/api/crossings/{name}/schedule", {
                params: path,
                body: {
                  ...(once ? { at: new Date(at).toISOString() } : { cron, zone }),
                  missed,
                  confirm: c.target,
                },
              }),
            )
          }
          confirm={{
            title: `Schedule ${c.name}?`,
            verb: "Schedule it",
            typed: c.target,
            body: once ? (
              <p>
                It starts by itself then; what its plan removes from {c.target} is removed without another
                question.
              </p>
            ) : (
              <p>
                {c.settings.repeat === "in place"
                  ? `Each run replaces the rows of the crossing’s tables on ${c.target}, chunk by chunk.`
                  : `Each run empties the crossing’s tables on ${c.target} and loads them again.`}{" "}
                A run is skipped while the one before has not ended.
              </p>
            ),
          }}
          onDone={() => {
            setCron("");
            setAt("");
          }}
        >
          Schedule it
        </Act>
      </div>
    </Panel>
  );
}
