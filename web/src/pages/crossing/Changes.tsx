import { useMemo } from "react";
import { Link } from "react-router";
import type { Crossing, Table } from "../../api";
import { bytes, count, duration, lagValue, perSecond, whole } from "../../format";
import { useLive } from "../../live";
import { useParam } from "../../params";
import { Panel, Search } from "../../parts/Fields";
import { Figure } from "../../parts/Figure";
import { Grid, type Column } from "../../parts/Grid";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";

/** What was captured and applied: positions, the last transactions, counts per table. */
export function Changes({ crossing: c }: { crossing: Crossing }) {
  const applied = useLive("/api/crossings/{name}/applied", { path: { name: c.name } });
  const p = c.progress;
  if (!c.follow_changes) return <Nothing>This crossing only loads: changes are not captured.</Nothing>;
  return (
    <Said of={applied} reading="Reading the positions">
      {(a) => (
        <>
          <dl
            className={`grid grid-cols-2 gap-2 ${p.vouched_rows === undefined ? "lg:grid-cols-6" : "lg:grid-cols-7"}`}
          >
            <Figure
              name="Source's log stands at"
              value={a.source_position || "–"}
              beside={a.reported_at && <Asked at={a.reported_at} />}
            />
            <Figure name="Received up to" value={a.received_position || "–"} />
            <Figure
              name="Applied up to"
              value={a.applied_position || "–"}
              beside={`${bytes(a.behind_bytes)} behind`}
            />
            <Figure name="Lag" value={lagValue(p)} beside={lagText(p)} />
            <Figure
              name="Log kept on the source"
              value={bytes(a.retained_bytes)}
              beside={
                p.retained_seconds === undefined
                  ? ""
                  : `the oldest ${duration(p.retained_seconds)} old${c.settings.retained_limit ? `, of ${bytes(c.settings.retained_limit)} allowed` : ""}`
              }
            />
            <Figure
              name="Applied"
              value={whole(p.changes)}
              beside={
                p.capture === "waiting"
                  ? "capture does not run at the moment"
                  : perSecond(p.changes_per_second, "changes")
              }
            />
            {p.vouched_rows !== undefined && (
              <Figure
                name="Vouched for up to"
                value={p.vouched_position ?? "–"}
                beside={
                  p.vouched_at ? (
                    <>
                      {whole(p.vouched_rows)} rows, <Asked at={p.vouched_at} />
                    </>
                  ) : (
                    `${whole(p.vouched_rows)} rows so far`
                  )
                }
              />
            )}
          </dl>
          <div className="mt-3 grid items-start gap-3 xl:grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)]">
            <PerTable crossing={c} />
            <Panel title="Last transactions applied">
              {a.transactions.length === 0 ? (
                <Nothing>None yet that changed a table of this crossing.</Nothing>
              ) : (
                <div
                  tabIndex={0}
                  role="region"
                  aria-label="Transactions"
                  className="mt-1 max-h-[440px] overflow-auto"
                >
                  <table className="w-full text-sm">
                    <thead>
                      <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
                        <th className="py-1 pr-3 font-medium">Committed</th>
                        <th className="py-1 pr-3 text-right font-medium">On its way</th>
                        <th className="py-1 pr-3 font-medium">Changes</th>
                        <th className="py-1 pr-3 font-medium">Tables</th>
                        <th className="py-1 font-medium">Position</th>
                      </tr>
                    </thead>
                    <tbody>
                      {a.transactions.map((t) => (
                        <tr key={t.position} className="border-t border-line align-top">
                          <td className="num py-1 pr-3 text-xs">
                            <Moment at={t.committed_at} />
                          </td>
                          <td className="num py-1 pr-3 text-right text-xs">
                            {duration(
                              Math.max(0, Date.parse(t.applied_at) - Date.parse(t.committed_at)) / 1000,
                            )}
                          </td>
                          <td className="num py-1 pr-3 text-xs whitespace-nowrap">
                            {[
                              t.inserts > 0 && `${whole(t.inserts)} ins`,
                              t.updates > 0 && `${whole(t.updates)} upd`,
                              t.deletes > 0 && `${whole(t.deletes)} del`,
                              t.truncates > 0 && count(t.truncates, "truncate"),
                            ]
                              .filter(Boolean)
                              .join(", ")}
                          </td>
                          <td className="py-1 pr-3 text-xs break-words">
                            <bdi>{t.tables.join(", ")}</bdi>
                          </td>
                          <td className="num py-1 text-xs">{t.position}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </div>
              )}
            </Panel>
          </div>
        </>
      )}
    </Said>
  );
}

/** How much is still to be applied, and until when. */
function lagText(p: Crossing["progress"]): string {
  const out = [bytes(p.lag_bytes)];
  if (p.lag_p99_seconds !== undefined && p.lag_age_seconds === undefined)
    out.unshift(`99 of 100 within ${duration(p.lag_p99_seconds)}`);
  if (p.lag_transactions)
    out.push(`${p.lag_guessed ? "about " : ""}${count(p.lag_transactions, "transaction")}`);
  if (p.catch_up_seconds !== undefined && p.catch_up_seconds > 0 && p.lag_seconds > 1)
    out.push(`gone in about ${duration(p.catch_up_seconds)}`);
  else if (p.catch_up_seconds === undefined && p.lag_seconds > 5 && p.capture !== "waiting")
    out.push("not shrinking");
  return out.join(", ");
}

const Asked = ({ at }: { at: string }) => (
  <>
    asked <Moment at={at} />
  </>
);

function PerTable({ crossing: c }: { crossing: Crossing }) {
  const [search, setSearch] = useParam("table");
  const tables = useLive(
    "/api/crossings/{name}/tables",
    { path: { name: c.name }, query: { search, sort: "changes", descending: true, limit: 200 } },
    { keep: true },
  );
  const columns = useMemo<Column<Table>[]>(() => {
    const base = `/crossings/${encodeURIComponent(c.name)}/tables/`;
    return [
      {
        name: "Table",
        width: "minmax(8rem,1fr)",
        cell: (t) => (
          <Link to={`${base}${t.id}`} className="link" title={t.name}>
            <bdi>{t.name}</bdi>
          </Link>
        ),
      },
      { name: "Inserts", width: "3.3rem", right: true, cell: (t) => whole(t.inserts) },
      { name: "Updates", width: "3.3rem", right: true, cell: (t) => whole(t.updates) },
      { name: "Deletes", width: "3.3rem", right: true, cell: (t) => whole(t.deletes) },
      { name: "Truncates", width: "3.9rem", right: true, cell: (t) => whole(t.truncates) },
      {
        name: "Columns",
        width: "3.5rem",
        right: true,
        cell: (t) =>
          t.column_changes > 0 ? <strong className="text-brick">{whole(t.column_changes)}</strong> : "0",
      },
      {
        name: "Last",
        width: "4.7rem",
        right: true,
        cell: (t) => (t.last_change_at ? <Moment at={t.last_change_at} /> : "–"),
      },
    ];
  }, [c.name]);
  return (
    <Panel title="Applied per table">
      <Said of={tables} reading="Reading the tables">
        {(d) =>
          d.total === 0 ? (
            <Nothing>The tables are planned when the crossing starts.</Nothing>
          ) : (
            <>
              {d.total > 12 && <Search label="Find tables" value={search} onChange={setSearch} />}
              <Grid
                label="Changes per table"
                columns={columns}
                count={d.tables.length}
                row={(i) => d.tables[i]}
                keyOf={(t) => t.id}
                height={`${Math.min(420, 48 + Math.max(1, d.tables.length) * 30)}px`}
                rowHeight={30}
                minWidth="520px"
              />
              {d.matched > d.tables.length && (
                <p className="text-xs text-soft">
                  The {whole(d.tables.length)} with the most changes, of {whole(d.matched)}.
                </p>
              )}
            </>
          )
        }
      </Said>
    </Panel>
  );
}
