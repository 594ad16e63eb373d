import { Eye } from "lucide-react";
import { useState } from "react";
import { count } from "../format";
import { useRead } from "../live";
import { Button } from "./Button";
import { useHiddenRows } from "../session";
import { Said } from "./Said";

/** A table of a database, or one of a crossing, whose rows are shown as they will arrive. */
type Of = { database: string } | { crossing: string };

/** The first rows of a table, read when a person asks; leaving cancels the read. */
export function Preview({ of, table }: { of: Of; table: string }) {
  const [asked, setAsked] = useState(false);
  const hidden = useHiddenRows();
  return (
    <section aria-label={`First rows of ${table}`} className="mt-3">
      <div className="flex flex-wrap items-center gap-3">
        <h3 className="text-sm font-semibold">
          First rows of <bdi>{table}</bdi>
          {"crossing" in of && ", as they will arrive"}
        </h3>
        {!asked && (
          <Button
            disabled={hidden !== undefined}
            title={hidden}
            onClick={() => {
              setAsked(true);
            }}
          >
            <Eye size={15} aria-hidden /> Look at 20 rows
          </Button>
        )}
        <span className="text-xs text-soft">
          {hidden ?? "Read-only, at most 5 seconds; the journal keeps who looked."}
        </span>
      </div>
      {asked &&
        ("crossing" in of ? (
          <Arriving crossing={of.crossing} table={table} />
        ) : (
          <Standing database={of.database} table={table} />
        ))}
    </section>
  );
}

const kept = { stale: 60_000 };

function Standing({ database, table }: { database: string; table: string }) {
  const query = { table, limit: 20 };
  return <Rows rows={useRead("/api/databases/{name}/rows", { path: { name: database }, query }, kept)} />;
}

function Arriving({ crossing, table }: { crossing: string; table: string }) {
  const query = { table, limit: 20 };
  return <Rows rows={useRead("/api/crossings/{name}/preview", { path: { name: crossing }, query }, kept)} />;
}

function Rows({ rows }: { rows: ReturnType<typeof useRead<"/api/databases/{name}/rows">> }) {
  return (
    <Said of={rows} reading="Reading the first rows">
      {(r) => (
        <>
          <div tabIndex={0} role="region" aria-label="Rows" className="mt-1 max-h-80 overflow-auto">
            <table className="text-sm">
              <thead>
                <tr className="sticky top-0 bg-sheet text-left text-xs text-soft">
                  {r.columns.map((c) => (
                    <th key={c.name} className="border-b border-line px-2 py-1 font-medium whitespace-nowrap">
                      {c.name}
                      <span className="num block font-normal">{c.type}</span>
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {r.rows.map((row, i) => (
                  <tr key={i} className="border-b border-line">
                    {row.map((v, k) => (
                      <td
                        key={k}
                        className="num max-w-72 truncate px-2 py-0.5 whitespace-pre"
                        title={v ?? "NULL"}
                      >
                        {v === null ? (
                          <span className="text-soft italic">NULL</span>
                        ) : (
                          <bdi>{v.length > 200 ? `${v.slice(0, 200)}…` : v}</bdi>
                        )}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <p className="mt-1 text-xs text-soft">
            {r.rows.length === 0
              ? "The table is empty."
              : r.more
                ? `The first ${count(r.rows.length, "row")}; there are more.`
                : `All ${count(r.rows.length, "row")}.`}
          </p>
        </>
      )}
    </Said>
  );
}
