import { useMemo } from "react";
import type { CatalogTable } from "../api";
import { bytes, count, whole } from "../format";
import { useRead } from "../live";
import { useParam } from "../params";
import { Choice, Search } from "./Fields";
import { Grid, type Column } from "./Grid";
import { Preview } from "./Preview";
import { Nothing, Said } from "./Said";

interface Props {
  database: string;
  selected: string;
  onSelect: (table: string) => void;
  /** With patterns, tables can be chosen: by hand, too. */
  patterns?: string[] | undefined;
  onChoose?: ((table: string, chosen: boolean) => void) | undefined;
  height?: string;
}

/** The schemas and tables of a database with sizes and keys; the first rows of one. */
export function TableBrowser({ database, selected, onSelect, patterns, onChoose, height = "340px" }: Props) {
  const [search, setSearch] = useParam("find");
  const [schema, setSchema] = useParam("schema");
  const [shown, setShown] = useParam("shown", "all");
  const catalog = useRead(
    "/api/databases/{name}/tables",
    { path: { name: database }, query: { pattern: patterns } },
    { keep: true, stale: 20_000 },
  );
  const all = catalog.data;
  const schemas = useMemo(
    () => [...new Set((all ?? []).map((t) => t.name.slice(0, t.name.indexOf("."))))].sort(),
    [all],
  );
  const list = useMemo(
    () =>
      (all ?? []).filter(
        (t) =>
          (search === "" || t.name.toLowerCase().includes(search.toLowerCase())) &&
          (schema === "" || t.name.startsWith(`${schema}.`)) &&
          (shown === "all" || t.chosen === (shown === "chosen")),
      ),
    [all, search, schema, shown],
  );
  const columns: Column<CatalogTable>[] = [
    ...(onChoose
      ? [
          {
            name: "Take",
            width: "2.5rem",
            cell: (t: CatalogTable) => (
              <input
                type="checkbox"
                aria-label={`Take ${t.name}`}
                checked={t.chosen}
                onChange={(e) => {
                  onChoose(t.name, e.target.checked);
                }}
              />
            ),
          },
        ]
      : []),
    {
      name: "Table",
      width: "minmax(9rem,1fr)",
      cell: (t) => (
        <button
          type="button"
          className="max-w-full truncate text-left text-timber underline decoration-line underline-offset-4"
          title={t.name}
          onClick={() => {
            onSelect(t.name);
          }}
        >
          <bdi>{t.name}</bdi>
        </button>
      ),
    },
    {
      name: "Rows (about)",
      width: "8rem",
      right: true,
      cell: (t) => (t.rows < 0 ? "not counted" : whole(t.rows)),
    },
    { name: "Size", width: "5.5rem", right: true, cell: (t) => bytes(t.bytes) },
    { name: "Columns", width: "4.5rem", right: true, cell: (t) => String(t.columns) },
    {
      name: "Key",
      width: "minmax(6rem,0.6fr)",
      cell: (t) =>
        t.key.length > 0 ? (
          <span title={t.key.join(", ")}>{t.key.join(", ")}</span>
        ) : (
          <span className="text-amber">no key</span>
        ),
    },
  ];
  const taken = (all ?? []).filter((t) => t.chosen);
  return (
    <Said of={catalog} reading="Reading the catalog">
      {() => (
        <>
          <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
            <Search label="Find tables" value={search} onChange={setSearch} />
            <Choice
              label="Schema"
              value={schema}
              onChange={setSchema}
              options={[["", `all ${schemas.length}`], ...schemas.map((s) => [s, s] as const)]}
            />
            {onChoose && (
              <Choice
                label="Show"
                value={shown}
                onChange={setShown}
                options={[
                  ["all", "all tables"],
                  ["chosen", "those taken along"],
                  ["left", "those left out"],
                ]}
              />
            )}
            {onChoose && (
              <p role="status" className="self-end text-sm">
                <strong>{count(taken.length, "table")}</strong> of {whole(all?.length ?? 0)} taken along,{" "}
                {bytes(taken.reduce((n, t) => n + t.bytes, 0))}
              </p>
            )}
          </div>
          {list.length === 0 ? (
            <Nothing>
              {all?.length === 0
                ? "The database holds no tables this user can see."
                : "No tables match these filters."}
            </Nothing>
          ) : (
            <div className="mt-2">
              <Grid
                label="Tables"
                columns={columns}
                count={list.length}
                row={(i) => list[i]}
                keyOf={(t) => t.name}
                height={height}
                selected={(t) => t.name === selected}
                minWidth="620px"
              />
            </div>
          )}
          {selected !== "" && !onChoose && <Preview key={selected} of={{ database }} table={selected} />}
        </>
      )}
    </Said>
  );
}
