import { Ban, Check, CircleDashed, Loader, Rocket, Undo2, X } from "lucide-react";
import { Link } from "react-router";
import { api, take, type Crossing, type Cutover } from "../../api";
import { count, duration } from "../../format";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";
import { Panel } from "../../parts/Fields";
import { Figure } from "../../parts/Figure";
import { Nothing, Said } from "../../parts/Said";
import { Verdicts } from "../../parts/Verdicts";
import { Moment } from "../../time";
import { Gateways } from "./Gateways";
import { PauseInTime } from "./PauseInTime";

/** What a person is asked who lets a cutover go on. */
const asks = {
  "go on": { title: "Let it go on?", verb: "Go on" },
  "writes stopped": { title: "Have writes stopped?", verb: "Writes have stopped" },
  outcome: { title: "Did the hand-over take effect?", verb: "It took effect" },
};

/** And what it means to say so. */
const meaning = {
  "go on": (_: Crossing, what: string) =>
    `The ${what} leaves its hold point and goes on with the next step at once.`,
  "writes stopped": (c: Crossing) =>
    `You confirm that nothing writes to ${c.source} now. What is written from now on does not reach ${c.target}.`,
  outcome: (c: Crossing) =>
    `Applications use ${c.target}, as you have seen there. ${c.source} stays closed and the cutover ends. If they still use ${c.source}, abort instead: it takes writes again.`,
};

export function CutoverPage({ crossing: c }: { crossing: Crossing }) {
  const list = useLive("/api/crossings/{name}/cutovers", { path: { name: c.name } });
  const path = { params: { path: { name: c.name } } };
  const going = list.data?.find((k) => k.state === "running");
  const rehearsed = list.data?.find(
    (k) => k.rehearsal && k.state === "done" && k.write_pause_seconds !== undefined,
  );
  const s = c.settings;
  const over = ["cut over", "closed"].includes(c.phase);
  const ready = useLive("/api/crossings/{name}/readiness", { path: { name: c.name } }, { enabled: !over });
  const blocking = over ? 0 : (ready.data?.filter((e) => e.verdict === "blocker").length ?? 0);
  const begin = (rehearsal: boolean) => () =>
    take(
      api.POST("/api/crossings/{name}/cutovers", {
        ...path,
        body: rehearsal ? { rehearsal } : { rehearsal, confirm: c.name },
      }),
    );
  const stopped = {
    lock: "the tables' locks are held",
    "read-only": "the database is made read-only",
    word: "a person gives their word",
  }[s.stop_method ?? "lock"];
  const why = !c.follow_changes
    ? "This crossing only loads: without capture its target cannot be cut over to"
    : going
      ? "One is under way"
      : c.phase !== "in step"
        ? `It starts from in step; the crossing is ${c.phase_label}`
        : c.condition !== "running"
          ? `The crossing is ${c.condition}: resume it first`
          : blocking > 0
            ? `${count(blocking, "point")} of the readiness list ${blocking === 1 ? "blocks" : "block"}`
            : undefined;
  return (
    <>
      <dl className="grid grid-cols-2 gap-2 lg:grid-cols-4">
        <Figure
          name="Write pause, as rehearsed"
          value={rehearsed ? duration(rehearsed.write_pause_seconds ?? 0) : "not known"}
          beside={rehearsed ? <Rehearsed k={rehearsed} /> : "a rehearsal measures it"}
        />
        <Figure
          name="Pause budget"
          value={duration(s.pause_budget_seconds ?? 0)}
          beside="beyond it everything is undone"
        />
        <Figure name="Writes are stopped" value={s.stop_method ?? "lock"} beside={stopped} />
        <Figure
          name="Hold points"
          value={s.hold_points?.length ? count(s.hold_points.length, "point") : "none"}
          beside={s.hold_points?.length ? `before: ${s.hold_points.join(", ")}` : "it runs through"}
        />
      </dl>
      <div className="mt-3 flex flex-wrap items-center gap-3">
        <Act
          blocked={why}
          act={begin(true)}
          confirm={{
            title: `Rehearse the cutover of ${c.name}?`,
            verb: "Rehearse it",
            body: (
              <p>
                Writes to {c.source} are stopped for a moment ({stopped}), everything is drained and compared,
                then all is undone and {c.source} takes writes again. Writers wait meanwhile
                {rehearsed ? `: ${duration(rehearsed.write_pause_seconds ?? 0)} the last time` : ""}, at most{" "}
                {duration(s.pause_budget_seconds ?? 0)}.
              </p>
            ),
          }}
        >
          Rehearse
        </Act>
        <Act
          strong
          blocked={why}
          act={begin(false)}
          confirm={{
            title: c.return_of === undefined ? `Cut ${c.name} over?` : `Go back to ${c.target}?`,
            verb: c.return_of === undefined ? "Cut over" : "Go back",
            typed: c.name,
            body: (
              <>
                <p>
                  Writes to {count(c.progress.tables, "table")} of {c.source} stop ({stopped}). When
                  everything is applied and compared, {c.source} refuses writes to them for good and{" "}
                  {c.target} is in charge.
                  {s.return_path === "open"
                    ? ` What is written there from then on is brought back to ${c.source}, so that going back loses nothing.`
                    : " There is no way back then: the setting return_path opens one."}
                </p>
                <p>
                  {rehearsed
                    ? `The rehearsal paused writes for ${duration(rehearsed.write_pause_seconds ?? 0)}.`
                    : "It has not been rehearsed: how long writes will pause is not known."}{" "}
                  Until the source is closed anything that fails undoes everything.
                </p>
              </>
            ),
          }}
        >
          <Rocket size={15} aria-hidden /> {c.return_of === undefined ? "Cut over" : `Go back to ${c.target}`}
        </Act>
        {why && <span className="text-sm text-soft">{why}.</span>}
        <Link to={`/crossings/${encodeURIComponent(c.name)}/plan/settings`} className="link ml-auto text-sm">
          Change how
        </Link>
      </div>
      <Gateways crossing={c} />
      <div className={`mt-3 grid items-start gap-3 ${over ? "" : "lg:grid-cols-2"}`}>
        <div className={list.data?.length === 0 ? "lg:col-span-2" : "grid gap-3"}>
          <Said of={list} reading="Reading the cutovers">
            {(all) =>
              all.length === 0 ? (
                <Nothing>It has neither been rehearsed nor cut over.</Nothing>
              ) : (
                <>
                  {all.map((k, i) => (
                    <Steps
                      key={k.id}
                      crossing={c}
                      k={k}
                      open={i === 0}
                      rehearsed={rehearsed?.write_pause_seconds}
                    />
                  ))}
                </>
              )
            }
          </Said>
        </div>
        {!over && (
          <Panel title="Readiness list" className={list.data?.length === 0 ? "lg:col-span-2" : ""}>
            <Said of={ready} reading="Measuring">
              {(entries) => <Verdicts entries={entries} folded={false} />}
            </Said>
          </Panel>
        )}
      </div>
    </>
  );
}

const Rehearsed = ({ k }: { k: Cutover }) => (
  <>
    rehearsed <Moment at={k.created_at} relative />
  </>
);

const signs = {
  waiting: [CircleDashed, "text-soft"],
  running: [Loader, "text-timber"],
  done: [Check, "text-reed"],
  failed: [X, "text-brick"],
  skipped: [Ban, "text-soft"],
  undone: [Undo2, "text-amber"],
} as const;

const ends = {
  running: "text-timber",
  done: "text-reed",
  undone: "text-amber",
  failed: "text-brick",
} as const;

function Steps({
  crossing: c,
  k,
  open,
  rehearsed,
}: {
  crossing: Crossing;
  k: Cutover;
  open: boolean;
  rehearsed?: number;
}) {
  const path = { params: { path: { name: c.name } } };
  const what = k.rehearsal ? "Rehearsal" : "Cutover";
  const undoable =
    k.state === "running" && !k.steps.some((s) => s.name === "hand over" && s.state !== "waiting");
  return (
    <details open={open} className="sheet px-3 py-2">
      <summary className="cursor-pointer text-sm">
        <strong>
          {what} {k.id}
        </strong>
        , <span className={`font-medium ${ends[k.state]}`}>{k.state}</span>, by {k.actor},{" "}
        <Moment at={k.created_at} relative />
        {k.write_pause_seconds !== undefined && (
          <span className="num">
            {" "}
            · writes paused {duration(k.write_pause_seconds)} of {duration(k.pause_budget_seconds)}
          </span>
        )}
      </summary>
      {k.error !== "" && <p className="mt-1 text-sm break-words text-brick">{k.error}</p>}
      {k.waits_for !== "" && (
        <div className="mt-2 flex flex-wrap items-center gap-3 rounded-md border border-amber px-3 py-2 text-sm">
          <span role="status" className="font-medium text-amber">
            {k.waits_for}
          </span>
          <Act
            strong
            act={() => take(api.POST("/api/crossings/{name}/cutovers/confirm", path))}
            confirm={{
              ...asks[k.awaits === "" ? "go on" : k.awaits],
              body: <p>{meaning[k.awaits === "" ? "go on" : k.awaits](c, what.toLowerCase())}</p>,
            }}
          >
            {k.awaits === "outcome" ? "It took effect" : "Go on"}
          </Act>
        </div>
      )}
      <PauseInTime k={k} rehearsed={rehearsed} />
      <ol className="mt-2">
        {k.steps.map((s) => {
          const [Sign, tone] = signs[s.state];
          return (
            <li
              key={s.name}
              className="grid grid-cols-[1.3rem_8.5rem_4.5rem_minmax(0,1fr)] gap-x-2 border-t border-line py-1 text-sm"
            >
              <Sign
                size={15}
                aria-hidden
                className={`mt-0.5 ${tone} ${s.state === "running" ? "animate-spin motion-reduce:animate-none" : ""}`}
              />
              <span className={s.state === "running" ? "font-semibold" : ""}>
                {s.name}
                <span className="block text-xs text-soft">{s.state}</span>
              </span>
              <span className="num text-right text-xs leading-5">
                {s.seconds === undefined ? "" : duration(s.seconds)}
              </span>
              <span className="min-w-0 text-xs leading-5 break-words text-soft">{s.note}</span>
            </li>
          );
        })}
      </ol>
      {undoable && (
        <div className="mt-2">
          <Act
            act={() => take(api.POST("/api/crossings/{name}/cutovers/abort", path))}
            confirm={{
              title: `Abort the ${what.toLowerCase()}?`,
              verb: "Abort and undo",
              body: (
                <p>
                  Everything done so far is undone: {c.source} takes writes again within seconds, capture goes
                  on, and the crossing is in step as before. No row is lost.
                </p>
              ),
            }}
          >
            <Undo2 size={15} aria-hidden /> Abort and undo
          </Act>
        </div>
      )}
      {k.reconciliation !== undefined && (
        <p className="mt-1 text-xs">
          <Link
            to={`/crossings/${encodeURIComponent(c.name)}/reconcile/${k.reconciliation}`}
            className="link"
          >
            What was compared inside the pause
          </Link>
        </p>
      )}
    </details>
  );
}
