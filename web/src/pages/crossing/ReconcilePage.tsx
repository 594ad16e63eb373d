import { GitCompareArrows } from "lucide-react";
import { useState } from "react";
import { Link, Route, Routes, useNavigate, useParams } from "react-router";
import { api, take, type Crossing, type Reconciliation } from "../../api";
import { count, duration, percent, whole } from "../../format";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";
import { Bar } from "../../parts/Bar";
import { Choice, Input, Panel } from "../../parts/Fields";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";
import { Findings } from "./Findings";

export function ReconcilePage({ crossing }: { crossing: Crossing }) {
  return (
    <Routes>
      <Route index element={<List crossing={crossing} />} />
      <Route path=":id" element={<One crossing={crossing} />} />
    </Routes>
  );
}

const results = {
  waiting: "text-soft",
  running: "text-timber",
  clean: "text-reed",
  differing: "text-brick",
  failed: "text-brick",
  cancelled: "text-soft",
} as const;

const done = (r: Reconciliation) =>
  r.ended_at ? 1 : Math.min(0.99, r.source_rows / Math.max(1, r.rows_expected));

function List({ crossing: c }: { crossing: Crossing }) {
  const list = useLive("/api/crossings/{name}/reconciliations", { path: { name: c.name } });
  const [depth, setDepth] = useState("hashes");
  const [scope, setScope] = useState("");
  const go = useNavigate();
  const base = `/crossings/${encodeURIComponent(c.name)}/reconcile`;
  const ready = ["catching up", "in step", "cut over"].includes(c.phase);
  return (
    <div className="grid items-start gap-3 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <Panel title="Reconciliations">
        <Said of={list} reading="Reading the reconciliations">
          {(all) =>
            all.length === 0 ? (
              <Nothing>Source and target have never been compared.</Nothing>
            ) : (
              <ul className="mt-1">
                {all.map((r) => (
                  <li key={r.id} className="border-t border-line py-2 text-sm">
                    <div className="flex flex-wrap items-baseline gap-x-4">
                      <Link to={`${base}/${r.id}`} className="link font-medium">
                        Number {r.id}
                      </Link>
                      <span className={`font-medium ${results[r.state]}`}>{r.state}</span>
                      <span className="text-soft">
                        {r.depth}, {r.scope.length === 0 ? "all tables" : r.scope.join(", ")}
                      </span>
                      <span className="ml-auto text-soft">
                        <Moment at={r.created_at} relative />
                      </span>
                    </div>
                    {r.ended_at ? (
                      <span className="text-soft">
                        {count(r.tables, "table")}, {whole(r.source_rows)} rows on the source,{" "}
                        {whole(r.target_rows)} on the target, {count(r.findings, "finding")}
                        {r.findings > 0 && `, ${whole(r.open_findings)} open`}
                      </span>
                    ) : (
                      <span className="flex items-center gap-2">
                        <Bar share={done(r)} label={`Reconciliation ${r.id}`} />
                        <span className="num w-14 text-right">{percent(done(r))}</span>
                      </span>
                    )}
                    {r.error !== "" && <span className="block break-words text-brick">{r.error}</span>}
                  </li>
                ))}
              </ul>
            )
          }
        </Said>
      </Panel>
      <Panel title="Compare both sides">
        <p className="mt-1 text-sm text-soft">
          Both stay live: the applier stops between two transactions at a known log position, and both sides
          are read exactly there.
        </p>
        <div className="mt-2 grid gap-3">
          <Choice
            label="How far to look"
            value={depth}
            onChange={setDepth}
            options={[
              ["hashes", "hashes, down to rows and columns"],
              ["counts", "row counts only"],
            ]}
          />
          <Input
            label="Tables (patterns, empty for all)"
            placeholder="saltmarsh.harvest_*"
            value={scope}
            onChange={(e) => {
              setScope(e.target.value);
            }}
          />
          <Act
            strong
            blocked={ready ? undefined : "The load has to be complete first"}
            act={async () => {
              const r = await take(
                api.POST("/api/crossings/{name}/reconciliations", {
                  params: { path: { name: c.name } },
                  body: {
                    depth: depth as "hashes" | "counts",
                    tables: scope.split(/[\s,]+/).filter((s) => s !== ""),
                  },
                }),
              );
              void go(`${base}/${r.id}`);
            }}
          >
            <GitCompareArrows size={15} aria-hidden /> Compare now
          </Act>
          {!ready && (
            <span className="text-sm text-soft">
              The load has to be complete first; the crossing is {c.phase_label}.
            </span>
          )}
        </div>
      </Panel>
    </div>
  );
}

function One({ crossing: c }: { crossing: Crossing }) {
  const { id = "" } = useParams();
  const one = useLive("/api/crossings/{name}/reconciliations/{id}", { path: { name: c.name, id } });
  const base = `/crossings/${encodeURIComponent(c.name)}/reconcile`;
  return (
    <Said of={one} reading="Reading the reconciliation">
      {(r) => (
        <>
          <title>{`${c.name}: reconciliation ${r.id}, ${r.state}`}</title>
          <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
            <Link to={base} className="link text-sm">
              All reconciliations
            </Link>
            <h2 className="text-lg font-semibold">Reconciliation {r.id}</h2>
            <span className={`font-medium ${results[r.state]}`}>{r.state}</span>
            <span className="text-sm text-soft">
              {r.depth}, {r.scope.length === 0 ? "all tables" : r.scope.join(", ")}
              {r.position !== "" && `, at log position ${r.position}`}, <Moment at={r.created_at} relative />
              {r.ended_at && `, took ${duration((Date.parse(r.ended_at) - Date.parse(r.created_at)) / 1000)}`}
            </span>
          </div>
          {r.error !== "" && <p className="mt-2 text-sm text-brick">{r.error}</p>}
          {!r.ended_at && (
            <div className="mt-2 flex items-center gap-3">
              <Bar share={done(r)} label="Compared" thick />
              <span className="num text-sm whitespace-nowrap">
                {r.state === "waiting"
                  ? "waiting for a worker"
                  : `${whole(r.tables_done)} of ${count(r.tables, "table")}, ${whole(r.source_rows)} of about ${whole(r.rows_expected)} rows`}
              </span>
            </div>
          )}
          <Results r={r} />
          {r.depth === "hashes" && r.findings > 0 && <Findings crossing={c} r={r} />}
        </>
      )}
    </Said>
  );
}

function Results({ r }: { r: Reconciliation }) {
  // What needs a look comes first.
  const list = (r.results ?? []).toSorted((a, b) => Math.sign(b.findings) - Math.sign(a.findings));
  return (
    <Panel title="Result per table" className="mt-3">
      <div tabIndex={0} role="region" aria-label="Results" className="mt-1 max-h-64 overflow-auto">
        <table className="w-full text-sm">
          <thead>
            <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
              {["Table", "Source rows", "Target rows", "Parts", "Differing", "Findings", "Took"].map(
                (h, i) => (
                  <th key={h} className={`py-1 pr-3 font-medium ${i > 0 ? "text-right" : ""}`}>
                    {h}
                  </th>
                ),
              )}
              <th className="py-1 font-medium">Hash</th>
            </tr>
          </thead>
          <tbody>
            {list.map((t) => (
              <tr key={t.name} className="border-t border-line">
                <td className="py-1 pr-3 break-words">
                  <bdi>{t.name}</bdi>
                  {t.state !== "done" && <span className="text-xs text-soft"> {t.state}</span>}
                </td>
                <td className="num py-1 pr-3 text-right">{whole(t.source_rows)}</td>
                <td
                  className={`num py-1 pr-3 text-right ${t.state === "done" && t.source_rows !== t.target_rows ? "font-semibold text-brick" : ""}`}
                >
                  {whole(t.target_rows)}
                </td>
                <td className="num py-1 pr-3 text-right">{whole(t.parts)}</td>
                <td className="num py-1 pr-3 text-right">{whole(t.differing_parts)}</td>
                <td
                  className={`num py-1 pr-3 text-right ${t.findings > 0 ? "font-semibold text-brick" : ""}`}
                >
                  {whole(t.findings)}
                </td>
                <td className="num py-1 pr-3 text-right">{duration(t.seconds)}</td>
                <td className="num py-1 text-xs">
                  {t.source_hash === ""
                    ? "–"
                    : t.source_hash === t.target_hash
                      ? `${t.source_hash}, alike`
                      : `${t.source_hash} / ${t.target_hash}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Panel>
  );
}
