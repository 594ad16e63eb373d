import { RotateCcw, ZoomIn, ZoomOut } from "lucide-react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Crossing, type LedgerCell, type Table } from "../../api";
import { bytes, count, duration, percent, perSecond, whole } from "../../format";
import { useLive } from "../../live";
import { useParam } from "../../params";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Panel } from "../../parts/Fields";
import { Figure } from "../../parts/Figure";
import { LedgerPicture } from "../../parts/LedgerPicture";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";
import { RejectedRows } from "./RejectedRows";

/** One table: its figures, its chunk ledger as a picture, and one chunk. */
export function TablePage({ crossing: c }: { crossing: Crossing }) {
  const { id = "" } = useParams();
  const table = useLive("/api/crossings/{name}/tables/{id}", { path: { name: c.name, id } });
  return (
    <Said of={table} reading="Reading the table">
      {(t) => (
        <>
          <title>{`${t.name} of ${c.name}: ${t.state}`}</title>
          <Head crossing={c} table={t} />
          <RejectedRows crossing={c} table={t.name} />
          <Chunks crossing={c} table={t} />
        </>
      )}
    </Said>
  );
}

function Head({ crossing: c, table: t }: { crossing: Crossing; table: Table }) {
  const go = useNavigate();
  const done = t.chunks > 0 && t.chunks === t.chunks_landed;
  const stopped = ["cutting over", "cut over", "closed"].includes(c.phase);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <Link to={`/crossings/${encodeURIComponent(c.name)}`} className="link text-sm">
          All tables
        </Link>
        <h2 className="min-w-0 text-lg font-semibold break-words">
          <bdi>{t.name}</bdi>
        </h2>
        <span className="text-sm text-soft">
          {t.state}, {t.key.length > 0 ? `key ${t.key.join(", ")}` : "no key: one chunk, rows matched whole"}
          {t.target !== t.name && `, to ${t.target}`}
        </span>
        <span className="ml-auto flex gap-2">
          <Link
            to={`/crossings/${encodeURIComponent(c.name)}/plan?table=${encodeURIComponent(t.name)}`}
            className="link self-center text-sm"
          >
            Its plan
          </Link>
          <Act
            blocked={
              stopped
                ? `The crossing is ${c.phase_label}`
                : t.chunks === 0
                  ? "It has not begun to load"
                  : undefined
            }
            act={(confirm) =>
              take(
                api.POST("/api/crossings/{name}/restart", {
                  params: { path: { name: c.name } },
                  body: { table: t.name, confirm },
                }),
              )
            }
            confirm={{
              title: `Load ${t.name} again?`,
              verb: "Empty and load it again",
              typed: t.name,
              body: (
                <p>
                  All {count(t.rows, "row")} that have landed in <bdi>{t.target}</bdi> on {c.target} are
                  removed, and its {count(t.chunks, "chunk")} are copied from the source again. The other
                  tables go on.
                </p>
              ),
            }}
          >
            <RotateCcw size={15} aria-hidden /> Load it again
          </Act>
          <Act
            blocked={
              stopped || t.chunks === 0 ? "A table is left out between the start and the cutover" : undefined
            }
            act={(confirm) =>
              take(
                api.POST("/api/crossings/{name}/leave-out", {
                  params: { path: { name: c.name } },
                  body: { table: t.name, confirm },
                }),
              )
            }
            onDone={() => {
              void go(`/crossings/${encodeURIComponent(c.name)}`);
            }}
            confirm={{
              title: `Leave ${t.name} out?`,
              verb: "Leave it out",
              typed: t.name,
              body: (
                <p>
                  {count(t.rows, "row")} that have landed in <bdi>{t.target}</bdi> on {c.target} stay there as
                  they are, and are followed no more. The other tables go on.
                </p>
              ),
            }}
          >
            Leave it out
          </Act>
        </span>
      </div>
      {t.reason !== "" && (
        <p
          role="status"
          className="mt-2 rounded-md border border-brick bg-sheet px-3 py-1.5 text-sm text-brick"
        >
          Held: {t.reason}
        </p>
      )}
      <dl className="mt-2 grid grid-cols-2 gap-2 md:grid-cols-3 lg:grid-cols-6">
        <Figure
          name="Landed"
          value={percent(done ? 1 : Math.min(0.99, t.bytes / Math.max(1, t.bytes_estimated)))}
          beside={`${whole(t.chunks_landed)} of ${count(t.chunks, "chunk")}`}
        />
        <Figure name="Rows" value={whole(t.rows)} beside={`of about ${whole(t.rows_estimated)}`} />
        <Figure name="Size" value={bytes(t.bytes)} beside={`of about ${bytes(t.bytes_estimated)}`} />
        <Figure
          name="Speed"
          value={t.state === "loading" ? `${bytes(t.bytes_per_second)}/s` : "–"}
          beside={
            t.average_rows_per_second === undefined
              ? ""
              : `${perSecond(t.average_rows_per_second, "rows")} on average`
          }
        />
        <Figure
          name="Remaining"
          value={
            done ? "loaded" : t.remaining_seconds === undefined ? "not known" : duration(t.remaining_seconds)
          }
          beside={
            t.landed_at ? (
              <>
                landed <Moment at={t.landed_at} />
              </>
            ) : t.remaining_low_seconds === undefined ? (
              ""
            ) : (
              `${duration(t.remaining_low_seconds)} to ${duration(t.remaining_high_seconds ?? 0)}`
            )
          }
        />
        <Figure
          name="Changes applied"
          value={whole(t.inserts + t.updates + t.deletes)}
          beside={`${whole(t.inserts)} ins, ${whole(t.updates)} upd, ${whole(t.deletes)} del`}
        />
      </dl>
    </>
  );
}

function Chunks({ crossing: c, table: t }: { crossing: Crossing; table: Table }) {
  const [chunk, setChunk] = useParam("chunk");
  const [range, setRange] = useParam("range");
  const [from, to] = range.split("~").map(Number);
  const ledger = useLive(
    "/api/crossings/{name}/tables/{id}/ledger",
    {
      path: { name: c.name, id: t.id },
      query: { from: from || undefined, to: to || undefined, cells: 1200 },
    },
    { keep: true },
  );
  const choose = (cell: LedgerCell) => {
    setChunk(String(cell.from));
  };
  return (
    <div className="mt-3 grid items-start gap-3 lg:grid-cols-[minmax(0,1fr)_360px]">
      <Panel
        title="Chunk ledger"
        beside={
          <span
            className="flex flex-wrap items-center gap-x-3 text-xs text-soft"
            aria-label="What the cells mean"
          >
            <Key sign="▮" tone="text-reed" text="landed (height: how long it took)" />
            <Key sign="▤" tone="text-honey" text="being read" />
            <Key sign="▯" tone="text-soft" text="pending" />
            <Key sign="☒" tone="text-brick" text="held" />
            <Key sign="▪" tone="text-brick" text="tried more than once" />
          </span>
        }
      >
        <Said of={ledger} reading="Reading the ledger">
          {(l) =>
            l.chunks === 0 ? (
              <Nothing>The table has not been cut into chunks yet.</Nothing>
            ) : (
              <>
                <p className="my-1 flex flex-wrap items-center gap-3 text-xs text-soft">
                  <span className="num">
                    chunks {whole(l.from)} to {whole(l.to)} of {whole(l.chunks)}; slowest{" "}
                    {duration(l.slowest_seconds)}
                  </span>
                  <ZoomButtons ledger={l} chunk={Number(chunk)} setRange={setRange} />
                </p>
                <LedgerPicture ledger={l} chosen={Number(chunk)} onChoose={choose} />
              </>
            )
          }
        </Said>
      </Panel>
      <Panel title={chunk === "" ? "One chunk" : `Chunk ${whole(Number(chunk))}`}>
        {chunk === "" ? (
          <Nothing>Choose a cell to see its bounds, attempts and errors.</Nothing>
        ) : (
          <Chunk crossing={c} table={t} number={Number(chunk)} />
        )}
      </Panel>
    </div>
  );
}

function ZoomButtons({
  ledger: l,
  chunk,
  setRange,
}: {
  ledger: { from: number; to: number; chunks: number; cells: LedgerCell[] };
  chunk: number;
  setRange: (range: string) => void;
}) {
  const wide = (l.cells[0]?.to ?? 0) > (l.cells[0]?.from ?? 0);
  const whole = l.from <= 1 && l.to >= l.chunks;
  return (
    <>
      {wide && (
        <Button
          className="px-2 py-0.5 text-xs"
          onClick={() => {
            const span = Math.max(1200, Math.floor((l.to - l.from) / 10));
            const mid = chunk >= l.from && chunk <= l.to ? chunk : l.from + Math.floor(span / 2);
            const first = Math.max(1, mid - Math.floor(span / 2));
            setRange(`${first}~${Math.min(l.chunks, first + span - 1)}`);
          }}
        >
          <ZoomIn size={13} aria-hidden /> Closer
        </Button>
      )}
      {!whole && (
        <Button
          className="px-2 py-0.5 text-xs"
          onClick={() => {
            setRange("");
          }}
        >
          <ZoomOut size={13} aria-hidden /> All chunks
        </Button>
      )}
    </>
  );
}

const Key = ({ sign, tone, text }: { sign: string; tone: string; text: string }) => (
  <span className="whitespace-nowrap">
    <span aria-hidden className={tone}>
      {sign}
    </span>{" "}
    {text}
  </span>
);

function Chunk({ crossing: c, table: t, number }: { crossing: Crossing; table: Table; number: number }) {
  const story = useLive(
    "/api/crossings/{name}/tables/{id}/chunks/{number}",
    { path: { name: c.name, id: t.id, number } },
    { keep: true },
  );
  return (
    <Said of={story} reading="Reading the chunk">
      {({ chunk: k, key, failed }) => (
        <>
          <dl className="mt-1 grid grid-cols-[7rem_1fr] gap-y-1 text-sm">
            <Line name="state" value={k.state} />
            <Line name={`from ${key.join(", ")}`} value={k.lower ? k.lower.join(", ") : "the beginning"} />
            <Line name="to below" value={k.upper ? k.upper.join(", ") : "the end"} />
            {k.with === undefined ? (
              <>
                <Line name="rows" value={whole(k.rows)} />
                <Line name="size" value={bytes(k.bytes)} />
                {k.together !== undefined && (
                  <Line
                    name="together with"
                    value={`the ${count(k.together - 1, "chunk")} behind it, in one read; figures are of all`}
                  />
                )}
              </>
            ) : (
              <Line name="together with" value={`chunk ${whole(k.with)}, in one read; figures are there`} />
            )}
            <Line name="tries" value={String(k.attempts)} />
            {k.worker !== "" && <Line name="worker" value={k.worker} />}
            {k.started_at && (
              <>
                <dt className="text-soft">began</dt>
                <dd>
                  <Moment at={k.started_at} relative />
                </dd>
              </>
            )}
            {k.started_at && k.ended_at && (
              <Line
                name="took"
                value={duration((Date.parse(k.ended_at) - Date.parse(k.started_at)) / 1000)}
              />
            )}
            {k.position && <Line name="read at" value={`log position ${k.position}`} />}
            {k.hash && <Line name="hash" value={k.hash} />}
          </dl>
          {k.error !== "" && <p className="mt-2 text-sm break-words text-brick">Last error: {k.error}</p>}
          {failed.length > 0 && (
            <>
              <h3 className="mt-2 text-sm font-semibold">Tries that failed</h3>
              <ul className="text-xs">
                {failed.map((a, i) => (
                  <li key={i} className="border-t border-line py-1 break-words">
                    <Moment at={a.ended_at} relative /> by {a.worker}
                    <span className="block text-brick">{a.error}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
        </>
      )}
    </Said>
  );
}

const Line = ({ name, value }: { name: string; value: string }) => (
  <>
    <dt className="text-soft">{name}</dt>
    <dd className="num min-w-0 break-words">
      <bdi>{value}</bdi>
    </dd>
  </>
);
