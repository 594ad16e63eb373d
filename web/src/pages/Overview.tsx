import { Plus } from "lucide-react";
import { Link } from "react-router";
import { phases, type Crossing } from "../api";
import { count, lagValue, percent, perSecond, share, whole } from "../format";
import { useLive } from "../live";
import { pageNumber, useParam } from "../params";
import { Bar } from "../parts/Bar";
import { Choice, Search } from "../parts/Fields";
import { Pager } from "../parts/Pager";
import { Nothing, Said } from "../parts/Said";
import { StateMark } from "../parts/StateMark";

const size = 25;
const orders = [
  ["need", "what needs a person"],
  ["name", "name"],
  ["phase", "phase"],
  ["progress", "progress"],
  ["rate", "speed"],
  ["lag", "lag"],
  ["created", "when created"],
] as const;

export function Overview() {
  const [search, setSearch] = useParam("search");
  const [phase, setPhase] = useParam("phase");
  const [condition, setCondition] = useParam("condition");
  const [sort, setSort] = useParam("sort", "need");
  const [order, setOrder] = useParam("order", "first");
  const [page, setPage] = useParam("page", "0");
  const crossings = useLive(
    "/api/crossings",
    {
      query: {
        search,
        phase,
        condition: condition === "waiting" ? undefined : condition,
        waiting: condition === "waiting" ? true : undefined,
        sort,
        descending: order === "last" ? true : undefined,
        offset: pageNumber(page) * size || undefined,
        limit: size,
      },
    },
    { keep: true },
  );
  return (
    <>
      <title>Crossings, Dusty Ferry</title>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <h1 className="text-xl font-semibold">Crossings</h1>
        {crossings.data && crossings.data.total > 0 && (
          <span className="text-sm text-soft">
            {count(crossings.data.total, "crossing")}, {whole(crossings.data.under_way)} under way
            {crossings.data.waiting > 0 && (
              <>
                ,{" "}
                <strong className="text-brick">
                  {crossings.data.waiting === 1 ? "one waits" : `${whole(crossings.data.waiting)} wait`} for a
                  person
                </strong>
              </>
            )}
          </span>
        )}
        <Link
          to="/crossings/new"
          className="ml-auto inline-flex items-center gap-1.5 rounded-md border border-timber bg-timber px-3 py-1.5 text-sm font-medium text-paper"
        >
          <Plus size={15} aria-hidden /> Plan a crossing
        </Link>
      </div>
      <div className="mt-2 grid grid-cols-2 gap-3 lg:grid-cols-[2fr_1fr_1fr_1fr_1fr]">
        <Search label="Search names" value={search} onChange={setSearch} />
        <Choice
          label="Phase"
          value={phase}
          onChange={setPhase}
          options={[["", "any"], ...phases.map((p) => [p, p] as const)]}
        />
        <Choice
          label="Condition"
          value={condition}
          onChange={setCondition}
          options={[
            ["", "any"],
            ["waiting", "needs a person"],
            ["running", "running"],
            ["paused", "paused"],
            ["held", "held"],
            ["failed", "failed"],
          ]}
        />
        <Choice label="Order by" value={sort} onChange={setSort} options={orders} />
        <Choice
          label="Order"
          value={order}
          onChange={setOrder}
          options={[
            ["first", "ascending"],
            ["last", "descending"],
          ]}
        />
      </div>
      <Said of={crossings} reading="Reading the crossings">
        {(data) => (
          <>
            {data.total === 0 && (
              <Nothing>
                There is no crossing yet. Register two databases under{" "}
                <Link to="/databases" className="link">
                  Databases
                </Link>
                , then plan a crossing from one to the other.
              </Nothing>
            )}
            {data.total > 0 && data.matched === 0 && <Nothing>No crossings match these filters.</Nothing>}
            <ul className="mt-3 grid gap-2">
              {data.crossings.map((c) => (
                <Row key={c.name} crossing={c} />
              ))}
            </ul>
            <Pager
              page={pageNumber(page)}
              setPage={(p) => {
                setPage(String(p));
              }}
              size={size}
              matched={data.matched}
              thing="crossing"
            />
          </>
        )}
      </Said>
    </>
  );
}

function Row({ crossing: c }: { crossing: Crossing }) {
  const p = c.progress;
  const done = share(p);
  return (
    <li className={`sheet px-4 py-2 ${c.waits_for === "" ? "" : "border-l-4 border-l-brick"}`}>
      <div className="grid items-center gap-x-5 gap-y-1 md:grid-cols-[minmax(0,2fr)_11rem_minmax(0,1.6fr)_8rem_8rem]">
        <span className="min-w-0">
          <Link to={`/crossings/${encodeURIComponent(c.name)}`} className="link font-semibold break-words">
            <bdi>{c.name}</bdi>
          </Link>
          <span className="block truncate text-xs text-soft">
            {c.source} to {c.target}
          </span>
        </span>
        <span className="text-sm">
          <StateMark crossing={c} />
        </span>
        <span className="flex items-center gap-2">
          <Bar share={done} label={`${c.name}: loaded`} />
          <span className="num w-14 text-right text-sm">{p.chunks > 0 ? percent(done) : "–"}</span>
        </span>
        <span
          className="num text-right text-sm"
          title="rows landed per second, or changes applied per second"
        >
          {c.phase === "loading"
            ? perSecond(p.rows_per_second, "rows")
            : p.capture === "none"
              ? "–"
              : perSecond(p.changes_per_second, "chg")}
        </span>
        <span className="num text-right text-sm" title="how far the target is behind the source">
          {p.capture === "none" ? "–" : `lag ${lagValue(p)}`}
        </span>
      </div>
      {c.waits_for !== "" && <p className="mt-1 text-sm break-words text-brick">{c.waits_for}</p>}
    </li>
  );
}
