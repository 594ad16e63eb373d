import { Rocket, Search as Look } from "lucide-react";
import { useState } from "react";
import { Link, NavLink, Route, Routes, useNavigate } from "react-router";
import { api, take, type Crossing } from "../../api";
import { bytes, count, duration, whole } from "../../format";
import { useRead } from "../../live";
import { useParam } from "../../params";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Input, Panel } from "../../parts/Fields";
import { Figure } from "../../parts/Figure";
import { Preview } from "../../parts/Preview";
import { Nothing, Said } from "../../parts/Said";
import { SettingsForm } from "../../parts/SettingsForm";
import { TableBrowser } from "../../parts/TableBrowser";
import { Verdicts } from "../../parts/Verdicts";
import { Moment } from "../../time";
import { Beside } from "./Beside";
import { FitCheck } from "./FitCheck";
import { Objects } from "./Objects";
import { PlanColumns, ruleText } from "./PlanColumns";
import { Statements } from "./Statements";

const steps = [
  ["", "1. Tables"],
  ["beside", "2. Queries and statements"],
  ["settings", "3. Settings"],
  ["survey", "4. Survey"],
  ["start", "5. Review"],
  ["objects", "Objects"],
] as const;

const isDraft = (c: Crossing) => c.phase === "draft" || c.phase === "surveyed";

/** From choosing tables to the review before the start. */
export function Plan({ crossing: c }: { crossing: Crossing }) {
  const base = `/crossings/${encodeURIComponent(c.name)}/plan`;
  return (
    <>
      <nav aria-label="Steps of the plan" className="mb-2 flex flex-wrap gap-x-1 text-sm">
        {steps.map(([to, label]) => (
          <NavLink
            key={to}
            to={to === "" ? base : `${base}/${to}`}
            end
            className={({ isActive }) =>
              `rounded-md px-3 py-1 ${isActive ? "bg-wash font-medium" : "text-soft hover:bg-wash"}`
            }
          >
            {label}
          </NavLink>
        ))}
      </nav>
      <Routes>
        <Route index element={<Choose crossing={c} />} />
        <Route path="beside" element={<Beside key={c.name} crossing={c} draft={isDraft(c)} />} />
        <Route path="objects" element={<Objects crossing={c} />} />
        <Route path="settings" element={<Choices crossing={c} />} />
        <Route path="survey" element={<Survey crossing={c} />} />
        <Route path="start" element={<Start crossing={c} />} />
      </Routes>
    </>
  );
}

function Choose({ crossing: c }: { crossing: Crossing }) {
  const [edited, setEdited] = useState<string[]>();
  const [word, setWord] = useState("");
  const [table, setTable] = useParam("table");
  const draft = isDraft(c);
  const patterns = edited ?? c.tables;
  // Without a pattern every table is taken, or, where there are queries, none.
  const queries = c.planning.queries ?? [];
  const effective = patterns.length === 0 ? (queries.length > 0 ? [] : ["*.*"]) : patterns;
  const byHand = (name: string, take_: boolean) => {
    // The last pattern that matches wins; naming a table again would only pile up.
    const rest = (patterns.length === 0 ? ["*.*"] : patterns).filter((p) => p !== name && p !== `-${name}`);
    setEdited([...rest, take_ ? name : `-${name}`]);
  };
  return (
    <div className="grid items-start gap-3 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <Panel title={`Tables of ${c.source}`}>
        <div className="mt-1 text-sm">
          <span className="text-soft">Chosen by these patterns, the last that matches wins: </span>
          {effective.map((p) => (
            <span
              key={p}
              className="num mr-1 mb-1 inline-flex items-center rounded-sm bg-wash px-1.5 py-0.5 text-xs"
            >
              <bdi>{p}</bdi>
              {draft && patterns.length > 0 && (
                <button
                  type="button"
                  aria-label={`Remove the pattern ${p}`}
                  className="ml-1 px-1 text-soft hover:text-ink"
                  onClick={() => {
                    setEdited(patterns.filter((x) => x !== p));
                  }}
                >
                  ×
                </button>
              )}
            </span>
          ))}
        </div>
        {draft && (
          <form
            className="mt-1 flex flex-wrap items-end gap-2"
            onSubmit={(e) => {
              e.preventDefault();
              if (word.trim() === "") return;
              setEdited([...patterns.filter((p) => p !== word.trim()), word.trim()]);
              setWord("");
            }}
          >
            <Input
              label="Add a pattern"
              placeholder="shop.* or -shop.tmp*"
              value={word}
              onChange={(e) => {
                setWord(e.target.value);
              }}
              className="grow"
            />
            <Button type="submit">Add</Button>
            <Act
              strong
              blocked={edited === undefined ? "No unsaved changes" : undefined}
              act={() =>
                take(
                  api.PUT("/api/crossings/{name}/tables", {
                    params: { path: { name: c.name } },
                    body: { patterns },
                  }),
                )
              }
              onDone={() => {
                setEdited(undefined);
              }}
            >
              Save selection
            </Act>
          </form>
        )}
        {!draft && (
          <p className="mt-1 text-sm text-soft">The crossing is {c.phase_label}: its tables are fixed.</p>
        )}
        {queries.length > 0 && (
          <p className="mt-1 text-sm">
            <span className="text-soft">And the rows of queries: </span>
            {queries.map((q) => (
              <button
                key={q.table}
                type="button"
                className="link num mr-2 text-xs"
                onClick={() => {
                  setTable(q.table);
                }}
              >
                {q.table}
              </button>
            ))}
          </p>
        )}
        {c.rules.length > 0 && <Rules crossing={c} draft={draft} />}
        <TableBrowser
          database={c.source}
          selected={table}
          onSelect={setTable}
          patterns={effective}
          onChoose={draft ? byHand : () => undefined}
          height="380px"
        />
      </Panel>
      {table === "" ? (
        <Panel title="Plan of a table">
          <Nothing>Choose a table by its name to see what will happen to it, and its first rows.</Nothing>
        </Panel>
      ) : (
        <TablePlan key={table} crossing={c} table={table} />
      )}
    </div>
  );
}

/** How plans differ from what the catalogue of types gives; later rules win. */
function Rules({ crossing: c, draft }: { crossing: Crossing; draft: boolean }) {
  return (
    <div className="mt-2 text-sm">
      <span className="text-soft">Rules, of which a later one wins:</span>
      <ol className="mt-0.5 list-decimal pl-5">
        {c.rules.map((r, i) => (
          <li key={i} className="break-words">
            <bdi className="num text-xs">{r.tables}</bdi>: {ruleText(r)}
            {draft && (
              <span className="ml-2 inline-block">
                <Act
                  act={() =>
                    take(
                      api.PUT("/api/crossings/{name}/tables", {
                        params: { path: { name: c.name } },
                        body: { patterns: c.tables, rules: c.rules.filter((_, n) => n !== i) },
                      }),
                    )
                  }
                >
                  Remove
                </Act>
              </span>
            )}
          </li>
        ))}
      </ol>
    </div>
  );
}

function TablePlan({ crossing: c, table }: { crossing: Crossing; table: string }) {
  const plan = useRead("/api/crossings/{name}/plan", { path: { name: c.name }, query: { table } });
  return (
    <Panel title={`Plan of ${table}`}>
      <Said of={plan} reading="Planning the table">
        {(p) => (
          <>
            <p className="mt-1 text-sm">
              {p.target_stands ? "Goes into the standing table" : "A table is made on the target:"}{" "}
              <bdi>{p.target}</bdi>. {p.rows < 0 ? "Never counted" : `About ${count(p.rows, "row")}`},{" "}
              {bytes(p.bytes)}, in about {count(p.chunks, "chunk")} of {bytes(p.chunk_bytes)}.{" "}
              {p.key.length === 0
                ? "It has no key: one chunk, and each changed row is found by all its values."
                : `Key ${p.key.join(", ")}${p.key_order === "source" ? ", ordered as the source orders it" : ""}.`}
            </p>
            <PlanColumns crossing={c} plan={p} draft={isDraft(c)} />
            {p.later.length > 0 && (
              <p className="mt-2 text-sm break-words">
                <span className="text-soft">Made after the load: </span>
                {p.later.map((o) => `${o.kind} ${o.name}`).join(", ")}
              </p>
            )}
            <Statements crossing={c} table={p.source} title="before" objects={p.first} />
            <Statements crossing={c} table={p.source} title="after" objects={p.later} />
            {p.notes.length > 0 && (
              <div className="mt-2">
                <Verdicts entries={p.notes} folded={false} />
              </div>
            )}
            <Preview of={{ crossing: c.name }} table={table} />
          </>
        )}
      </Said>
    </Panel>
  );
}

function Choices({ crossing: c }: { crossing: Crossing }) {
  return (
    <>
      <Panel title="Settings of this crossing">
        <SettingsForm
          settings={c.settings}
          fixed={isDraft(c) ? undefined : "fixed since the start"}
          copiesRows={c.copy_rows}
          save={(body) =>
            take(api.PATCH("/api/crossings/{name}", { params: { path: { name: c.name } }, body }))
          }
        />
      </Panel>
      <Copy crossing={c} />
    </>
  );
}

/** Begins another crossing that is planned as this one. */
function Copy({ crossing: c }: { crossing: Crossing }) {
  const [name, setName] = useState("");
  const go = useNavigate();
  return (
    <Panel title="Begin another crossing planned as this one" className="mt-3">
      <div className="mt-1 flex flex-wrap items-end gap-2">
        <Input
          label="Its name"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
        />
        <Act
          blocked={name.trim() === "" ? "Give it a name" : undefined}
          act={() =>
            take(
              api.POST("/api/crossings/{name}/copy", {
                params: { path: { name: c.name } },
                body: { name: name.trim() },
              }),
            )
          }
          onDone={() => {
            void go(`/crossings/${encodeURIComponent(name.trim())}/plan`);
          }}
        >
          Copy the plan
        </Act>
        <span className="text-sm text-soft">Tables, rules, queries, statements and settings; no rows.</span>
      </div>
    </Panel>
  );
}

function Survey({ crossing: c }: { crossing: Crossing }) {
  const survey = useRead("/api/crossings/{name}/survey", { path: { name: c.name } });
  return (
    <>
      <Panel
        title="Survey"
        beside={
          <Act
            strong={isDraft(c)}
            blocked={c.phase === "closed" ? "A closed crossing can no longer be surveyed" : undefined}
            act={() => take(api.POST("/api/crossings/{name}/survey", { params: { path: { name: c.name } } }))}
          >
            <Look size={15} aria-hidden /> {c.surveyed_at ? "Survey again" : "Survey both sides"}
          </Act>
        }
      >
        <p className="text-sm text-soft">
          Looks at both sides and changes nothing.{" "}
          {c.surveyed_at && (
            <>
              Last surveyed <Moment at={c.surveyed_at} relative />.
            </>
          )}
        </p>
        <Said of={survey} reading="Reading the survey">
          {(list) =>
            list.length === 0 ? (
              <Nothing>Nobody has surveyed this choice of tables yet.</Nothing>
            ) : (
              <Verdicts entries={list} />
            )
          }
        </Said>
      </Panel>
      <FitCheck crossing={c} />
    </>
  );
}

function Start({ crossing: c }: { crossing: Crossing }) {
  const draft = isDraft(c);
  const look = useRead("/api/crossings/{name}/review", { path: { name: c.name } }, { enabled: draft });
  if (!draft) {
    return (
      <Nothing>
        The crossing has started: it is {c.phase_label}.{" "}
        <Link to={`/crossings/${encodeURIComponent(c.name)}`} className="link">
          See how it goes
        </Link>
      </Nothing>
    );
  }
  return (
    <Said of={look} reading="Looking at both sides once more">
      {(l) => (
        <>
          <dl className="grid grid-cols-2 gap-2 lg:grid-cols-4">
            <Figure
              name="From"
              value={l.source.name}
              beside={`${l.source.host}:${l.source.port}/${l.source.database}`}
            />
            <Figure
              name="To"
              value={l.target.name}
              beside={`${l.target.host}:${l.target.port}/${l.target.database}`}
            />
            <Figure
              name="Carried"
              value={count(l.tables, "table")}
              beside={`about ${count(l.rows, "row")}, ${bytes(l.bytes)}, ${count(l.chunks, "chunk")}`}
            />
            <Figure
              name="The load takes about"
              value={duration(Math.max(1, l.load_seconds))}
              beside={l.load_seconds_from}
            />
          </dl>
          <Panel title="What will happen on the target" className="mt-3">
            <ul className="mt-1 list-disc pl-5 text-sm">
              <li>{count(l.create, "table")} will be made.</li>
              {l.standing_empty > 0 && (
                <li>{count(l.standing_empty, "table")} stand and are empty; they will be filled.</li>
              )}
              {l.rows_lost > 0 && (
                <li className="font-semibold text-brick">
                  {count(l.rows_lost, "row")} in {count(l.losses.length, "table")} will be removed:{" "}
                  {l.losses.map((x) => `${x.table} (${whole(x.rows)})`).join(", ")}
                </li>
              )}
              {l.refused.length > 0 && (
                <li className="text-brick">
                  {count(l.refused.length, "table")} hold rows, and the settings refuse to remove them:{" "}
                  {l.refused.map((x) => `${x.table} (${whole(x.rows)})`).join(", ")}.{" "}
                  <Link to="../settings" relative="path" className="link">
                    Settings
                  </Link>
                </li>
              )}
              <li>
                A {l.target.engine === "mariadb" ? "database" : "schema"} dusty_ferry is made there for the
                marks of landed chunks, and removed when the crossing is closed.
              </li>
            </ul>
            <h3 className="mt-2 text-sm font-semibold">On the source</h3>
            <p className="text-sm">
              {!c.follow_changes
                ? "Rows are read. Nothing changes."
                : l.source.engine === "mariadb"
                  ? "Rows and the binary log are read. Nothing changes: the server keeps its log by its own rules."
                  : "A publication and a replication slot are made, and the server keeps its log for as long as capture stands still. Rows are read. Both are removed when the crossing is closed."}
            </p>
          </Panel>
          {l.blockers.length > 0 && (
            <Panel title="Blockers" className="mt-3">
              <Verdicts entries={l.blockers} folded={false} />
            </Panel>
          )}
          <div className="mt-3 flex flex-wrap items-center gap-3">
            <Act
              strong
              blocked={
                l.blockers.length > 0 ? `${count(l.blockers.length, "blocker")} of the start` : undefined
              }
              act={() =>
                take(
                  api.POST("/api/crossings/{name}/start", {
                    params: { path: { name: c.name } },
                    body: l.rows_lost > 0 ? { confirm: l.target.name } : {},
                  }),
                )
              }
              confirm={{
                title: `Start ${c.name}?`,
                verb: "Start",
                ...(l.rows_lost > 0 ? { typed: l.target.name } : {}),
                body: (
                  <>
                    <p>
                      {count(l.tables, "table")} of {l.source.name} are copied to {l.target.name}
                      {!c.follow_changes ? "." : ", while live changes are followed."}
                    </p>
                    {l.rows_lost > 0 && (
                      <p className="font-semibold text-brick">
                        {count(l.rows_lost, "row")} in {count(l.losses.length, "table")} of {l.target.name}{" "}
                        are removed first. They cannot be brought back.
                      </p>
                    )}
                  </>
                ),
              }}
            >
              <Rocket size={15} aria-hidden /> Start the crossing
            </Act>
            <span className="text-sm text-soft">
              {l.blockers.length > 0
                ? `${count(l.blockers.length, "blocker")} of the start.`
                : l.notices > 0
                  ? `No blockers; the survey has ${count(l.notices, "notice")}.`
                  : "No blockers."}
            </span>
          </div>
        </>
      )}
    </Said>
  );
}
