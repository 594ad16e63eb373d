import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Pause, Play, Rocket } from "lucide-react";
import { useMemo } from "react";
import { useParams } from "react-router";
import { api, take, type Crossing, type JournalEntry, type Sample, type Session, type Table } from "../api";
import { bytes, clock, duration, percent, share, utc, whole } from "../format";
import { Bar } from "../parts/Bar";
import { Button } from "../parts/Button";
import { Chart } from "../parts/Chart";
import { Figure } from "../parts/Figure";
import { StateMark } from "../parts/StateMark";

export function CrossingPage({ role }: { role: Session["role"] }) {
  const { name = "" } = useParams();
  const path = { params: { path: { name } } };
  const crossing = useQuery({
    queryKey: ["crossing", name],
    queryFn: () => take(api.GET("/api/crossings/{name}", path)),
  });
  const tables = useQuery({
    queryKey: ["tables", name],
    queryFn: () => take(api.GET("/api/crossings/{name}/tables", path)),
    refetchInterval: 1000,
  });
  const samples = useQuery({
    queryKey: ["samples", name],
    queryFn: () => take(api.GET("/api/crossings/{name}/samples", path)),
    refetchInterval: 3000,
  });
  const journal = useQuery({
    queryKey: ["journal", name],
    queryFn: () => take(api.GET("/api/journal", { params: { query: { crossing: name, limit: 100 } } })),
  });
  if (crossing.isPending) return <p className="text-soft">Reading the crossing …</p>;
  if (crossing.error) {
    return (
      <p role="alert" className="text-brick">
        {crossing.error.message}
      </p>
    );
  }
  const c = crossing.data;
  return (
    <>
      <title>{`${c.name}: ${c.phase}, ${c.condition}`}</title>
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <h1 className="text-xl font-semibold break-all">{c.name}</h1>
        <span className="text-soft">
          {c.source} to {c.target}
        </span>
        <StateMark crossing={c} />
        <Acts crossing={c} role={role} />
      </div>
      {c.reason !== "" && (
        <p
          role="status"
          className="mt-2 rounded-md border border-brick bg-sheet px-3 py-2 text-sm text-brick"
        >
          {c.reason}
        </p>
      )}
      {c.progress.work && <p className="mt-2 text-sm text-soft">Now: {c.progress.work}</p>}
      <Figures crossing={c} />
      <Charts samples={samples.data ?? []} />
      <div className="mt-4 grid items-start gap-4 lg:grid-cols-[3fr_2fr]">
        <Tables tables={tables.data} />
        <Journal entries={journal.data} />
      </div>
    </>
  );
}

/** Start, pause, resume. A viewer sees them and why they are closed to them. */
function Acts({ crossing: c, role }: { crossing: Crossing; role: Session["role"] }) {
  const cache = useQueryClient();
  const path = { params: { path: { name: c.name } } };
  const act = useMutation({
    mutationFn: (what: "start" | "pause" | "resume") => {
      switch (what) {
        case "start":
          return take(api.POST("/api/crossings/{name}/start", path));
        case "pause":
          return take(api.POST("/api/crossings/{name}/pause", { ...path, body: { keep_capture: false } }));
        case "resume":
          return take(api.POST("/api/crossings/{name}/resume", path));
      }
    },
    onSuccess: (now) => {
      cache.setQueryData(["crossing", c.name], now);
    },
  });
  const draft = c.phase === "draft" || c.phase === "surveyed";
  const under = ["prepared", "loading", "catching up", "in step"].includes(c.phase);
  const viewer = role === "viewer";
  const why = viewer ? "Your role is viewer; ask an operator" : undefined;
  const common = { disabled: viewer || act.isPending, title: why };
  return (
    <div className="ml-auto flex flex-wrap items-center gap-2">
      {act.error && (
        <span role="alert" className="text-sm text-brick">
          {act.error.message}
        </span>
      )}
      {viewer && <span className="text-xs text-soft">Viewers can watch, not steer</span>}
      {draft && c.condition === "running" && (
        <Button
          strong
          {...common}
          onClick={() => {
            act.mutate("start");
          }}
        >
          <Rocket size={15} aria-hidden /> Start
        </Button>
      )}
      {under && c.condition !== "paused" && (
        <Button
          {...common}
          onClick={() => {
            act.mutate("pause");
          }}
        >
          <Pause size={15} aria-hidden /> Pause
        </Button>
      )}
      {c.condition !== "running" && c.phase !== "closed" && (
        <Button
          strong
          {...common}
          onClick={() => {
            act.mutate("resume");
          }}
        >
          <Play size={15} aria-hidden /> Resume
        </Button>
      )}
    </div>
  );
}

function Figures({ crossing: c }: { crossing: Crossing }) {
  const p = c.progress;
  const done = share(p);
  const left =
    c.phase === "loading" && p.remaining_seconds !== undefined
      ? {
          value: duration(p.remaining_seconds),
          beside: `${duration(p.remaining_low_seconds ?? 0)} to ${duration(p.remaining_high_seconds ?? 0)}`,
        }
      : { value: done >= 1 ? "loaded" : "–", beside: done >= 1 ? "every chunk has landed" : "not known yet" };
  const follows = p.capture !== "none" && p.capture !== "waiting";
  return (
    <section aria-label="Progress" className="mt-4">
      <div className="flex items-center gap-3">
        <Bar share={done} label="Loaded, all tables" thick />
        <span className="num w-14 text-right font-semibold" data-testid="loaded">
          {p.chunks > 0 ? percent(done) : "–"}
        </span>
      </div>
      <dl className="mt-3 grid grid-cols-2 gap-2 md:grid-cols-3 lg:grid-cols-6">
        <Figure name="Rows landed" value={whole(p.rows)} beside={`of about ${whole(p.rows_estimated)}`} />
        <Figure
          name="Chunks landed"
          value={`${whole(p.chunks_landed)} / ${whole(p.chunks)}`}
          beside={bytes(p.bytes)}
        />
        <Figure
          name="Rows per second"
          value={whole(p.rows_per_second)}
          beside={`${bytes(p.bytes_per_second)}/s`}
        />
        <Figure name="Time left" {...left} />
        <Figure
          name="Lag"
          value={follows ? duration(p.lag_seconds) : "–"}
          beside={follows ? `${bytes(p.lag_bytes)} behind` : `capture: ${p.capture}`}
        />
        <Figure
          name="Changes applied"
          value={whole(p.changes)}
          beside={`${whole(p.changes_per_second)}/s, source keeps ${bytes(p.retained_bytes)}`}
        />
      </dl>
    </section>
  );
}

const rowsPerSecond = (v: number): string => `${whole(v)}/s`;
const seconds = (v: number): string => duration(v);

function Charts({ samples }: { samples: Sample[] }) {
  const data = useMemo(() => {
    const times: number[] = [];
    const rates: number[] = [];
    const lags: number[] = [];
    for (let i = 1; i < samples.length; i++) {
      const a = samples[i - 1];
      const b = samples[i];
      if (!a || !b) continue;
      const at = Date.parse(b.at) / 1000;
      const dt = at - Date.parse(a.at) / 1000;
      times.push(at);
      rates.push(dt > 0 ? Math.max(0, (b.rows - a.rows + b.changes - a.changes) / dt) : 0);
      lags.push(b.lag_seconds);
    }
    return { times, rates, lags };
  }, [samples]);
  return (
    <section aria-label="Over time" className="mt-3 grid gap-3 md:grid-cols-2">
      <Chart
        title="Rows and changes per second"
        times={data.times}
        values={data.rates}
        show={rowsPerSecond}
        tone="honey"
      />
      <Chart title="Lag" times={data.times} values={data.lags} show={seconds} tone="reed" />
    </section>
  );
}

function Tables({ tables }: { tables: Table[] | undefined }) {
  if (!tables) return <p className="text-soft">Reading the tables …</p>;
  if (tables.length === 0) {
    return <p className="text-soft">The tables are planned when the crossing starts.</p>;
  }
  return (
    <section
      aria-label="Tables"
      className="overflow-x-auto rounded-md border border-line bg-sheet"
      tabIndex={0}
    >
      <table className="w-full text-sm">
        <thead>
          <tr className="border-b border-line text-left text-xs text-soft">
            <th className="px-3 py-2 font-medium">Table</th>
            <th className="py-2 font-medium">Loaded</th>
            <th className="px-3 py-2 text-right font-medium">Rows</th>
            <th className="px-3 py-2 text-right font-medium">Changes</th>
          </tr>
        </thead>
        <tbody>
          {tables.map((t) => (
            <tr key={t.id} className="border-b border-line last:border-0">
              <td className="max-w-56 px-3 py-1.5">
                <span className="block truncate" title={t.name}>
                  <bdi>{t.name}</bdi>
                </span>
                {t.reason !== "" && <span className="block text-xs text-brick">held: {t.reason}</span>}
              </td>
              <td className="w-32 py-1.5">
                <Bar
                  share={t.chunks > 0 ? t.chunks_landed / t.chunks : 0}
                  label={`${t.name}: chunks landed`}
                />
              </td>
              <td className="num px-3 py-1.5 text-right">{whole(t.rows)}</td>
              <td className="num px-3 py-1.5 text-right" title="inserts, updates, deletes applied">
                {whole(t.inserts + t.updates + t.deletes)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const tones = { info: "text-ink", warning: "text-amber", error: "text-brick" } as const;

function Journal({ entries }: { entries: JournalEntry[] | undefined }) {
  return (
    <section aria-label="Journal" className="rounded-md border border-line bg-sheet px-3 py-2">
      <h2 className="text-sm font-semibold">Journal</h2>
      {!entries && <p className="text-sm text-soft">Reading the journal …</p>}
      <ol className="mt-1 max-h-96 overflow-y-auto text-sm" tabIndex={0}>
        {entries?.map((e) => (
          <li key={e.id} className="flex gap-2 border-t border-line py-1 first:border-0">
            <time dateTime={e.at} title={utc(e.at)} className="num shrink-0 text-xs leading-5 text-soft">
              {clock(e.at)}
            </time>
            <span className={`min-w-0 break-words ${tones[e.severity]}`}>
              {e.severity !== "info" && <strong>{e.severity}: </strong>}
              {e.message}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
