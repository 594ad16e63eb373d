import { useCallback, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, take, type Crossing, type Table } from "../../api";
import { bytes, count, duration, each, lagValue, perSecond, percent, share, whole } from "../../format";
import { useLive } from "../../live";
import { useParam } from "../../params";
import { Act } from "../../parts/Act";
import { Bar } from "../../parts/Bar";
import { Choice, Input, Panel, Search } from "../../parts/Fields";
import { firstError, parseNumber } from "../../parts/number";
import { Figure } from "../../parts/Figure";
import { Grid, type Column } from "../../parts/Grid";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";
import { Charts } from "./Charts";
import { RejectedRows } from "./RejectedRows";

/** How far, how fast, how long still, how far behind, what is stuck. */
export function UnderWay({ crossing: c }: { crossing: Crossing }) {
  return (
    <>
      <Figures crossing={c} />
      <RejectedRows crossing={c} />
      <Charts crossing={c} />
      <div className="mt-2 grid items-start gap-2 lg:grid-cols-[minmax(0,1fr)_300px]">
        <Tables crossing={c} />
        <div className="grid gap-2">
          <Lanes crossing={c} />
          <AddTable crossing={c} />
        </div>
      </div>
    </>
  );
}

function Figures({ crossing: c }: { crossing: Crossing }) {
  const p = c.progress;
  const done = share(p);
  const loading = c.phase === "loading";
  const over = c.phase === "cut over" || c.phase === "closed";
  const stuck =
    c.waits_for !== ""
      ? { value: "yes", beside: c.waits_for, tone: "text-brick" }
      : p.tables_held > 0
        ? { value: count(p.tables_held, "table"), beside: "held: see the tables below", tone: "text-brick" }
        : p.capture === "waiting" && !over && c.phase !== "draft" && c.phase !== "surveyed"
          ? { value: "capture", beside: "does not run at the moment", tone: "text-amber" }
          : {
              value: "nothing",
              beside: p.work ? `now: ${p.work}` : over ? `it is ${c.phase_label}` : c.condition,
              tone: "text-reed",
            };
  return (
    <>
      <dl className="grid grid-cols-2 gap-2 md:grid-cols-3 lg:grid-cols-6">
        <Figure
          name="Loaded"
          testid="loaded"
          value={!c.copy_rows ? "nothing" : p.chunks === 0 ? "not begun" : percent(done)}
          beside={
            !c.copy_rows
              ? "the rows were there"
              : done >= 1
                ? count(p.rows, "row")
                : `${whole(p.rows)} / ${count(p.rows_estimated, "row")}`
          }
        />
        <Figure
          name="Speed"
          testid="speed"
          value={loading ? `${bytes(p.bytes_per_second)}/s` : "–"}
          beside={
            loading
              ? `${perSecond(p.rows_per_second, "rows")}, avg ${each(p.average_rows_per_second ?? 0)}`
              : `${bytes(p.bytes)} landed`
          }
        />
        <Figure
          name="Remaining"
          value={
            loading && p.remaining_seconds !== undefined
              ? duration(p.remaining_seconds)
              : done >= 1
                ? "loaded"
                : c.copy_rows
                  ? "not known"
                  : "–"
          }
          beside={
            loading && p.remaining_seconds !== undefined
              ? `${duration(p.remaining_low_seconds ?? 0)} to ${duration(p.remaining_high_seconds ?? 0)}`
              : done >= 1
                ? `${count(p.chunks, "chunk")}, all landed`
                : `${whole(p.chunks_landed)} of ${count(p.chunks, "chunk")}`
          }
        />
        <Figure
          name="Lag"
          testid="lag"
          value={p.capture === "none" ? "no capture" : over ? "ended" : lagValue(p)}
          beside={
            p.capture === "none"
              ? ""
              : over
                ? "capture has ended"
                : (p.capture_note ?? `${bytes(p.lag_bytes)} behind, log ${bytes(p.retained_bytes)}`)
          }
        />
        <Figure
          name="Changes applied"
          value={p.capture === "none" ? "–" : whole(p.changes)}
          beside={p.capture === "none" ? "" : perSecond(p.changes_per_second, "changes")}
        />
        <Figure name="Stuck" {...stuck} />
      </dl>
      <div className="mt-2">
        <Bar share={done} label="Loaded over all tables" thick />
      </div>
    </>
  );
}

const block = 100;

function Tables({ crossing: c }: { crossing: Crossing }) {
  const [search, setSearch] = useParam("table");
  const [state, setState] = useParam("state");
  const [sort, setSort] = useParam("sort", "planned");
  const [descending, setDescending] = useParam("down");
  const [first, setFirst] = useState(0);
  const onSight = useCallback((top: number) => {
    setFirst(Math.floor(top / block));
  }, []);
  const page = (n: number) => ({
    path: { name: c.name },
    query: {
      search,
      state,
      sort: sort === "planned" ? undefined : sort,
      descending: descending === "" ? undefined : true,
      offset: n * block || undefined,
      limit: block,
    },
  });
  const here = useLive("/api/crossings/{name}/tables", page(first), { keep: true });
  const matched = here.data?.matched ?? 0;
  const next = useLive("/api/crossings/{name}/tables", page(first + 1), {
    keep: true,
    enabled: matched > (first + 1) * block,
  });
  const row = (i: number): Table | undefined => {
    const from = i - first * block;
    return from < block ? here.data?.tables[from] : next.data?.tables[from - block];
  };
  const columns = useMemo(() => tableColumns(c), [c]);
  return (
    <Panel
      title="Tables"
      beside={
        <span className="text-xs text-soft">
          {["held", "loading", "planned", "landed"]
            .filter((s) => (here.data?.states[s] ?? 0) > 0)
            .map((s) => `${whole(here.data?.states[s] ?? 0)} ${s}`)
            .join(", ")}
        </span>
      }
    >
      <Said of={here} reading="Reading the tables">
        {(data) =>
          data.total === 0 ? (
            <Nothing>The tables are planned when the crossing starts.</Nothing>
          ) : (
            <>
              {data.total > 12 && (
                <div className="grid grid-cols-2 gap-3">
                  <Search label="Find tables" value={search} onChange={setSearch} />
                  <Choice
                    label="State"
                    value={state}
                    onChange={setState}
                    options={[
                      ["", "any"],
                      ["held", "held"],
                      ["loading", "loading"],
                      ["planned", "planned"],
                      ["landed", "landed"],
                    ]}
                  />
                </div>
              )}
              <Grid
                label="Tables"
                columns={columns}
                count={matched}
                row={row}
                keyOf={(t) => t.id}
                height={`${Math.min(262, 30 + Math.max(1, matched) * 30)}px`}
                rowHeight={30}
                minWidth="720px"
                sort={sort}
                descending={descending !== ""}
                onSort={(s) => {
                  if (s === sort) setDescending(descending === "" ? "1" : "");
                  else setSort(s);
                }}
                onSight={onSight}
              />
            </>
          )
        }
      </Said>
    </Panel>
  );
}

const tableShare = (t: Table) =>
  t.chunks > 0 && t.chunks === t.chunks_landed ? 1 : Math.min(0.99, t.bytes / Math.max(1, t.bytes_estimated));

function tableColumns(c: Crossing): Column<Table>[] {
  const base = `/crossings/${encodeURIComponent(c.name)}/tables/`;
  return [
    {
      name: "Table",
      sort: "name",
      width: "minmax(9rem,1.4fr)",
      cell: (t) => (
        <Link
          to={`${base}${t.id}`}
          className="link"
          title={t.reason === "" ? t.name : `${t.name}, held: ${t.reason}`}
        >
          <bdi>{t.name}</bdi>
        </Link>
      ),
    },
    {
      name: "State",
      sort: "state",
      width: "4.2rem",
      cell: (t) => <span className={t.state === "held" ? "font-semibold text-brick" : ""}>{t.state}</span>,
    },
    {
      name: "Landed",
      sort: "progress",
      width: "minmax(6rem,0.8fr)",
      cell: (t) => (
        <span className="flex items-center gap-2">
          <Bar share={t.chunks > 0 ? tableShare(t) : 0} label={`${t.name}: landed`} />
          <span className="num w-12 text-right text-xs">{t.chunks > 0 ? percent(tableShare(t)) : "–"}</span>
        </span>
      ),
    },
    {
      name: "Rows",
      sort: "rows",
      width: "6.6rem",
      right: true,
      cell: (t) => <span title={`of about ${count(t.rows_estimated, "row")}`}>{whole(t.rows)}</span>,
    },
    {
      name: "Size",
      sort: "bytes",
      width: "5rem",
      right: true,
      cell: (t) => <span title={`of about ${bytes(t.bytes_estimated)}`}>{bytes(t.bytes)}</span>,
    },
    {
      name: "Chunks",
      width: "4.6rem",
      right: true,
      cell: (t) => `${whole(t.chunks_landed)}/${whole(t.chunks)}`,
    },
    {
      name: "Speed",
      sort: "rate",
      width: "5.4rem",
      right: true,
      cell: (t) => (
        <span
          title={
            t.average_rows_per_second === undefined
              ? undefined
              : `${perSecond(t.average_rows_per_second, "rows")} on average`
          }
        >
          {t.state === "loading" ? `${bytes(t.bytes_per_second)}/s` : "–"}
        </span>
      ),
    },
    {
      name: "Time left",
      width: "5.4rem",
      right: true,
      cell: (t) =>
        t.remaining_seconds === undefined || t.state === "landed" ? (
          "–"
        ) : (
          <span
            title={`${duration(t.remaining_low_seconds ?? 0)} to ${duration(t.remaining_high_seconds ?? 0)}`}
          >
            {duration(t.remaining_seconds)}
          </span>
        ),
    },
  ];
}

/** Which worker carries what; how many lanes and how fast they may go. */
function Lanes({ crossing: c }: { crossing: Crossing }) {
  const lanes = useLive("/api/crossings/{name}/lanes", { path: { name: c.name } });
  const [wanted, setWanted] = useState<string>();
  const [limit, setLimit] = useState<string>();
  const nowLanes = String(c.settings.lanes ?? 1);
  const nowLimit = String(Math.round((c.settings.speed_limit ?? 0) / 1e3) / 1e3);
  const wish = parseNumber(wanted ?? nowLanes, { whole: true, min: 1, max: 64 });
  const speed = parseNumber(limit ?? nowLimit, { min: 0 });
  const over = ["cut over", "closed", "cutting over"].includes(c.phase);
  return (
    <Panel title="Lanes">
      <Said of={lanes} reading="Reading the lanes">
        {(l) => (
          <>
            <p className="text-xs text-soft">
              {l.carrying.length} of {count(l.wanted, "lane")} at work, {count(l.open_chunks, "chunk")} to go
              {l.speed_limit > 0 && `, limited to ${bytes(l.speed_limit)}/s`}
            </p>
            {c.progress.lanes_now !== undefined && (
              <p className="text-xs text-soft">
                Found now: {count(c.progress.lanes_now, "lane")}. {c.progress.lanes_why}
              </p>
            )}
            <ul
              className="mt-1 max-h-32 overflow-y-auto text-xs"
              tabIndex={0}
              aria-label="Chunks on their way"
            >
              {l.carrying.map((k) => (
                <li key={`${k.table_id}/${k.chunk}`} className="border-t border-line py-1">
                  <Link
                    to={`/crossings/${encodeURIComponent(c.name)}/tables/${k.table_id}?chunk=${k.chunk}`}
                    className="link break-words"
                  >
                    <bdi>{k.table}</bdi>{" "}
                    {k.last_chunk > k.chunk
                      ? `chunks ${String(k.chunk)} to ${String(k.last_chunk)}`
                      : `chunk ${String(k.chunk)}`}{" "}
                    of {k.of_chunks}
                  </Link>
                  <span className="num block text-soft">
                    {bytes(k.bytes)}, since <Moment at={k.started_at} />
                    {k.attempt > 1 && `, try ${k.attempt}`}
                  </span>
                  {k.waits_for && <span className="block break-words">{k.waits_for}</span>}
                  <span className="block truncate text-soft" title={k.worker}>
                    by {k.worker}
                  </span>
                </li>
              ))}
            </ul>
          </>
        )}
      </Said>
      <div className="mt-2 grid grid-cols-2 gap-2 border-t border-line pt-2">
        <Input
          label="Lanes"
          inputMode="numeric"
          error={wish.error}
          value={wanted ?? nowLanes}
          onChange={(e) => {
            setWanted(e.target.value);
          }}
        />
        <Input
          label="Limit, MB/s (0: none)"
          inputMode="decimal"
          error={speed.error}
          value={limit ?? nowLimit}
          onChange={(e) => {
            setLimit(e.target.value);
          }}
        />
        <div className="col-span-2">
          <Act
            blocked={
              over
                ? `The crossing is ${c.phase_label}: there is nothing to steer`
                : (wanted ?? nowLanes) === nowLanes && (limit ?? nowLimit) === nowLimit
                  ? "No changes to save"
                  : firstError({ Lanes: wish, Limit: speed })
            }
            act={() =>
              take(
                api.PATCH("/api/crossings/{name}", {
                  params: { path: { name: c.name } },
                  body: {
                    ...(wanted !== undefined && wish.value !== undefined && { lanes: wish.value }),
                    ...(limit !== undefined &&
                      speed.value !== undefined && { speed_limit: Math.round(speed.value * 1e6) }),
                  },
                }),
              )
            }
            onDone={() => {
              setWanted(undefined);
              setLimit(undefined);
            }}
          >
            Apply now
          </Act>
        </div>
      </div>
    </Panel>
  );
}

/** One more table, while the others go on. */
function AddTable({ crossing: c }: { crossing: Crossing }) {
  const [table, setTable] = useState("");
  if (!["loading", "catching up", "in step"].includes(c.phase)) return null;
  return (
    <details className="sheet px-3 py-1.5 text-sm">
      <summary className="font-semibold">Add a table</summary>
      <Input
        label="Table of the source"
        placeholder="schema.table"
        value={table}
        onChange={(e) => {
          setTable(e.target.value);
        }}
      />
      <div className="mt-2">
        <Act
          blocked={/^[^.]+\.[^.]+$/.test(table.trim()) ? undefined : "Write it as schema.table"}
          act={() =>
            take(
              api.POST("/api/crossings/{name}/add-table", {
                params: { path: { name: c.name } },
                body: { table: table.trim() },
              }),
            )
          }
          onDone={() => {
            setTable("");
          }}
        >
          Add it
        </Act>
      </div>
    </details>
  );
}
