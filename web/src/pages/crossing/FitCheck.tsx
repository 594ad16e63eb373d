import { Ruler } from "lucide-react";
import { useState } from "react";
import { api, take, type Crossing, type Entry } from "../../api";
import { bytes, count } from "../../format";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";
import { Choice, Input, Panel } from "../../parts/Fields";
import { parseNumber } from "../../parts/number";
import { Nothing, Said } from "../../parts/Said";
import { Verdicts } from "../../parts/Verdicts";
import { Moment } from "../../time";

const scopes = [
  ["all", "all rows"],
  ["0.1", "a tenth of the rows"],
  ["0.01", "a hundredth of the rows"],
  ["extremes", "least, greatest and longest values"],
] as const;

/** What a fit check came to. */
function outcome(misfits: number, entries: Entry[]): string {
  if (misfits > 0) return `${count(misfits, "value")} would stop the load`;
  return entries.every((e) => e.verdict === "ok")
    ? "Every value fits"
    : "No value would stop the load, but some are lost";
}

/** Reads the data for values that their planned columns cannot hold. */
export function FitCheck({ crossing: c }: { crossing: Crossing }) {
  const fit = useLive("/api/crossings/{name}/fit", { path: { name: c.name } });
  const [scope, setScope] = useState("all");
  const [limit, setLimit] = useState("");
  const draft = c.phase === "draft" || c.phase === "surveyed";
  const speed = parseNumber(limit, { min: 0, optional: true });
  const blocked = !draft ? "It belongs before the start" : speed.error && `Speed limit: ${speed.error}`;
  return (
    <Panel title="Fit check" className="mt-3">
      <p className="text-sm text-soft">
        Reads the source&rsquo;s rows and tries every value against its planned column: texts that are too
        long, numbers out of range, dates that do not exist on the other side. Changes nothing.
      </p>
      <div className="mt-1 flex flex-wrap items-end gap-2">
        <Choice label="Look at" value={scope} onChange={setScope} options={scopes} />
        <Input
          label="Speed limit, MB/s"
          inputMode="decimal"
          placeholder="none"
          error={speed.error}
          value={limit}
          onChange={(e) => {
            setLimit(e.target.value);
          }}
        />
        <Act
          blocked={blocked}
          act={() =>
            take(
              api.POST("/api/crossings/{name}/fit", {
                params: { path: { name: c.name } },
                body: {
                  extremes: scope === "extremes",
                  share: scope === "all" || scope === "extremes" ? 1 : Number(scope),
                  speed_limit: Math.round((speed.value ?? 0) * 1e6),
                },
              }),
            )
          }
        >
          <Ruler size={15} aria-hidden /> Check the data
        </Act>
      </div>
      <Said of={fit} reading="Reading the fit check">
        {(f) =>
          f.started_at === undefined ? (
            <Nothing>Nobody has looked at the data yet.</Nothing>
          ) : (
            <>
              <p className="mt-2 text-sm" role="status">
                {f.ended_at === undefined
                  ? `Under way since `
                  : f.error
                    ? "It ended early "
                    : `${outcome(f.misfits, f.entries)}; checked `}
                <Moment at={f.ended_at ?? f.started_at} relative />: {count(f.rows, "row")} ({bytes(f.bytes)})
                in {f.tables_done} of {count(f.tables, "table")} looked at
                {f.extremes ? ", the extremes only" : f.share < 1 ? `, a share of ${f.share * 100} %` : ""}.
              </p>
              {f.error && <p className="text-sm text-brick">{f.error}</p>}
              {f.entries.length > 0 && <Verdicts entries={f.entries} />}
            </>
          )
        }
      </Said>
    </Panel>
  );
}
