import { Pause, Play, Rocket, Square } from "lucide-react";
import { useState } from "react";
import { Link, NavLink, Route, Routes, useParams } from "react-router";
import { api, phases, take, type Crossing } from "../../api";
import { bytes, count, percent, share } from "../../format";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";
import { ReturnPath } from "../../parts/ReturnPath";
import { Said, Trouble } from "../../parts/Said";
import { StateMark } from "../../parts/StateMark";
import { CertificatePage } from "./CertificatePage";
import { Changes } from "./Changes";
import { CutoverPage } from "./CutoverPage";
import { Log } from "./Log";
import { Plan } from "./Plan";
import { ReconcilePage } from "./ReconcilePage";
import { Runs } from "./Runs";
import { TablePage } from "./TablePage";
import { Tasks } from "./Tasks";
import { UnderWay } from "./UnderWay";

/** Everything about one crossing: its head, the way through its parts, and the part that is open. */
export default function CrossingFrame() {
  const { name = "" } = useParams();
  const crossing = useLive("/api/crossings/{name}", { path: { name } });
  return (
    <Said of={crossing} reading="Reading the crossing">
      {(c) => (
        <>
          <Head crossing={c} />
          <Routes>
            <Route index element={<UnderWay crossing={c} />} />
            <Route path="tables/:id" element={<TablePage crossing={c} />} />
            <Route path="plan/*" element={<Plan crossing={c} />} />
            <Route path="changes" element={<Changes crossing={c} />} />
            <Route path="reconcile/*" element={<ReconcilePage crossing={c} />} />
            <Route path="cutover" element={<CutoverPage crossing={c} />} />
            <Route path="certificate" element={<CertificatePage crossing={c} />} />
            <Route path="runs" element={<Runs crossing={c} />} />
            <Route path="log" element={<Log crossing={c} />} />
            <Route path="*" element={<Trouble>This crossing has no such page.</Trouble>} />
          </Routes>
        </>
      )}
    </Said>
  );
}

/** The parts of a crossing, each with the phase from which on it lies behind. */
const parts = [
  ["plan", "Plan", "prepared"],
  ["", "Under way", "in step"],
  ["changes", "Changes", "cut over"],
  ["reconcile", "Reconcile", "cut over"],
  ["cutover", "Cutover", "cut over"],
  ["certificate", "Certificate", "closed"],
] as const;

/** What a tab in the background says. */
const titleOf = (c: Crossing): string => {
  const p = c.progress;
  const far = c.phase === "loading" ? ` ${percent(share(p))}` : "";
  const how = c.phase === "closed" ? "" : `, ${c.condition}`;
  return `${c.waits_for === "" ? "" : "! "}${c.name}: ${c.phase_label}${far}${how}`;
};

function Head({ crossing: c }: { crossing: Crossing }) {
  const base = `/crossings/${encodeURIComponent(c.name)}`;
  const reached = phases.indexOf(c.phase);
  return (
    <>
      <title>{titleOf(c)}</title>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <h1 className="min-w-0 text-xl font-semibold break-words">
          <bdi>{c.name}</bdi>
        </h1>
        <span className="text-sm text-soft">
          <Link to={`/databases/${encodeURIComponent(c.source)}`} className="link">
            {c.source}
          </Link>{" "}
          to{" "}
          <Link to={`/databases/${encodeURIComponent(c.target)}`} className="link">
            {c.target}
          </Link>
        </span>
        <StateMark crossing={c} />
        <Steer crossing={c} />
      </div>
      <nav
        aria-label="Parts of the crossing"
        className="no-print mt-1 mb-2 overflow-x-auto border-b border-line"
      >
        <ol className="flex min-w-max items-end text-sm">
          {parts.map(([to, label, behind]) => {
            const done = reached >= phases.indexOf(behind);
            return (
              <li key={label} className="flex items-center">
                <NavLink
                  to={to === "" ? base : `${base}/${to}`}
                  end={to === ""}
                  className={({ isActive }) =>
                    `flex items-center gap-1.5 border-b-2 px-3 py-1.5 ${isActive ? "border-honey font-semibold" : "border-transparent hover:border-line"}`
                  }
                >
                  <span
                    aria-hidden
                    className={`inline-block h-2 w-2 rounded-full border ${done ? "border-reed bg-reed" : "border-soft"}`}
                  />
                  {label}
                  {done && <span className="sr-only">, behind us</span>}
                </NavLink>
              </li>
            );
          })}
          {["Runs", "Log"].map((label, i) => (
            <li key={label} className={i === 0 ? "ml-4" : ""}>
              <NavLink
                to={`${base}/${label.toLowerCase()}`}
                className={({ isActive }) =>
                  `block border-b-2 px-3 py-1.5 ${isActive ? "border-honey font-semibold" : "border-transparent hover:border-line"}`
                }
              >
                {label}
              </NavLink>
            </li>
          ))}
        </ol>
      </nav>
      {c.waits_for !== "" && (
        <p
          role="status"
          className="mb-2 rounded-md border border-brick bg-sheet px-3 py-1.5 text-sm break-words text-brick"
        >
          <strong>Waits for a person:</strong> {c.waits_for}
        </p>
      )}
      {c.waits_for === "" && c.reason !== "" && (
        <p
          role="status"
          className="mb-2 rounded-md border border-amber bg-sheet px-3 py-1.5 text-sm break-words text-amber"
        >
          {c.reason}
        </p>
      )}
      <ReturnPath crossing={c} />
      <Tasks crossing={c} />
    </>
  );
}

/** Start, pause, resume, close: what can be done in any part. */
function Steer({ crossing: c }: { crossing: Crossing }) {
  const path = { params: { path: { name: c.name } } };
  const [keep, setKeep] = useState(false);
  const [reopen, setReopen] = useState(false);
  const draft = c.phase === "draft" || c.phase === "surveyed";
  const under = ["prepared", "loading", "catching up", "in step"].includes(c.phase);
  return (
    <div className="no-print ml-auto flex flex-wrap items-center gap-2">
      {draft && c.condition === "running" && (
        <Link
          to={`/crossings/${encodeURIComponent(c.name)}/plan/start`}
          className="inline-flex items-center gap-1.5 rounded-md border border-timber bg-timber px-3 py-1.5 text-sm font-medium text-paper"
        >
          <Rocket size={15} aria-hidden /> Review and start
        </Link>
      )}
      {under && c.condition !== "paused" && (
        <Act
          act={() =>
            take(
              api.POST("/api/crossings/{name}/pause", {
                ...path,
                body: { keep_capture: keep && c.follow_changes },
              }),
            )
          }
          confirm={{
            title: `Pause ${c.name}?`,
            verb: "Pause it",
            body: (
              <>
                <p>
                  Chunks on their way are handed back within seconds;{" "}
                  {count(c.progress.chunks_landed, "chunk")} that have landed stay landed. Nothing is lost.
                </p>
                {c.follow_changes && (
                  <>
                    <label className="flex items-center gap-2">
                      <input
                        type="checkbox"
                        checked={keep}
                        onChange={(e) => {
                          setKeep(e.target.checked);
                        }}
                      />
                      Let capture go on
                    </label>
                    <p className="text-soft">
                      While capture stands still the source keeps its log ({bytes(c.progress.retained_bytes)}{" "}
                      now): resume before its disk fills.
                    </p>
                  </>
                )}
              </>
            ),
          }}
        >
          <Pause size={15} aria-hidden /> Pause
        </Act>
      )}
      {c.condition !== "running" && c.other_server && (
        <Act
          act={() => take(api.POST("/api/crossings/{name}/failover", path))}
          confirm={{
            title: `Go on from the server that answers for ${c.source} now?`,
            verb: "Go on from it",
            body: (
              <p>
                It must be a promoted replica of the first one. Its log is searched for what was applied last;
                if it does not lead on from there, nothing is changed.
              </p>
            ),
          }}
        >
          Go on from this server
        </Act>
      )}
      {c.condition !== "running" && c.phase !== "closed" && (
        <Act strong act={() => take(api.POST("/api/crossings/{name}/resume", path))}>
          <Play size={15} aria-hidden /> Resume
        </Act>
      )}
      {c.phase !== "closed" && c.phase !== "cutting over" && (
        <Act
          act={(confirm) =>
            take(api.POST("/api/crossings/{name}/close", { ...path, body: { reopen, confirm } }))
          }
          confirm={{
            title: `Close ${c.name}?`,
            verb: "Close it",
            typed: c.name,
            body:
              c.phase === "cut over" ? (
                <>
                  <p>What the crossing left on both servers is removed and the certificate is written.</p>
                  {c.return_by !== undefined && (
                    <p>Its return path, {c.return_by}, goes on: closing that one gives the way back up.</p>
                  )}
                  <label className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      disabled={c.return_by !== undefined}
                      checked={reopen}
                      onChange={(e) => {
                        setReopen(e.target.checked);
                      }}
                    />
                    Let {c.source} take writes again
                  </label>
                </>
              ) : c.return_of !== undefined ? (
                <p>
                  This is the return path of {c.return_of}. Closing it gives the way back up: what is written
                  to {c.source} no longer comes to {c.target}, which stays closed to writes. It cannot be
                  taken up again.
                </p>
              ) : (
                <p>
                  The crossing has not cut over. Closing it ends load and capture and removes what it left on
                  both servers; {count(c.progress.rows, "row")} stay in {c.progress.tables} tables of{" "}
                  {c.target}, and are no longer kept in step. It cannot be taken up again.
                </p>
              ),
          }}
        >
          <Square size={15} aria-hidden /> Close
        </Act>
      )}
    </div>
  );
}
