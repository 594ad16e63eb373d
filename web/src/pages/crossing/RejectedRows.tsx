import { useLive } from "../../live";
import { type Crossing } from "../../api";
import { count, whole } from "../../format";
import { Panel } from "../../parts/Fields";
import { useHiddenRows } from "../../session";

type Shown = { crossing: Crossing; table?: string };

/** Rows that the target could not take, or took with a value cut; nothing while there are none. */
export function RejectedRows(shown: Shown) {
  if (useHiddenRows() !== undefined) return null;
  return (
    <>
      <Rows {...shown} cut={false} />
      <Rows {...shown} cut={true} />
    </>
  );
}

function Rows({ crossing: c, table, cut }: Shown & { cut: boolean }) {
  const page = useLive(
    "/api/crossings/{name}/rejected-rows",
    { path: { name: c.name }, query: { table, limit: 100, ...(cut && { cut }) } },
    { keep: true },
  );
  const list = page.data;
  if (!list || list.total === 0) return null;
  return (
    <Panel
      title={
        cut
          ? `Cut: ${count(list.total, "note")} of values longer than a rule allows`
          : `${count(list.total, "rejected row")}, which the target could not take`
      }
      className="mt-3"
    >
      <p className="text-xs text-soft">
        {cut
          ? `These rows are on ${c.target}, each with the beginning of its value. What changes bring is counted in the journal.`
          : `They are on ${c.source} as before. Correct them there (what is changed is captured), or the target’s table, and repair what a comparison finds.`}
      </p>
      <div
        tabIndex={0}
        role="region"
        aria-label={cut ? "Rows with a value cut" : "Rejected rows"}
        className="mt-1 max-h-72 overflow-auto"
      >
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-xs text-soft">
              {table === undefined && <th className="py-1 pr-4 font-medium">Table</th>}
              <th className="py-1 pr-4 text-right font-medium">Chunk</th>
              <th className="py-1 pr-4 font-medium">Key</th>
              <th className="py-1 pr-4 font-medium">What</th>
              <th className="py-1 font-medium">Why</th>
            </tr>
          </thead>
          <tbody>
            {list.rows.map((r) => (
              <tr key={r.id} className="border-t border-line align-top">
                {table === undefined && (
                  <td className="py-1 pr-4">
                    <bdi>{r.table}</bdi>
                  </td>
                )}
                <td className="num py-1 pr-4 text-right">{whole(r.chunk)}</td>
                <td className="num py-1 pr-4">{r.key?.join(", ") ?? "none"}</td>
                <td className="max-w-72 py-1 pr-4 text-xs break-words">
                  <bdi>
                    {Object.entries(r.row)
                      .filter(([name]) => r.column === "" || name === r.column)
                      .map(([name, value]) => `${name} ${value ?? "NULL"}`)
                      .join(", ")}
                  </bdi>
                </td>
                <td className="py-1 text-xs break-words text-brick">{r.error}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Panel>
  );
}
