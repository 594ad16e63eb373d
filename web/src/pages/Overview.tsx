import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take, type Crossing } from "../api";
import { duration, percent, share, whole } from "../format";
import { Bar } from "../parts/Bar";
import { StateMark } from "../parts/StateMark";

export function Overview() {
  const crossings = useQuery({ queryKey: ["crossings"], queryFn: () => take(api.GET("/api/crossings")) });
  const waiting = crossings.data?.filter((c) => c.condition === "held" || c.condition === "failed") ?? [];
  return (
    <>
      <title>Crossings, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Crossings</h1>
      {crossings.isPending && <p className="mt-4 text-soft">Reading the crossings …</p>}
      {crossings.error && (
        <p role="alert" className="mt-4 text-brick">
          {crossings.error.message}
        </p>
      )}
      {crossings.data?.length === 0 && (
        <p className="mt-4 max-w-prose text-soft">
          There is no crossing yet. Register two databases and create one:{" "}
          <code className="num text-sm">dustyferry crossing create NAME --source … --target …</code>
        </p>
      )}
      {waiting.length > 0 && (
        <p role="status" className="mt-3 rounded-md border border-brick bg-sheet px-3 py-2 text-brick">
          {waiting.length === 1 ? "One crossing waits" : `${String(waiting.length)} crossings wait`} for a
          person.
        </p>
      )}
      {crossings.data && crossings.data.length > 0 && (
        <ul className="mt-4 grid gap-3">
          {crossings.data.map((c) => (
            <Row key={c.name} crossing={c} />
          ))}
        </ul>
      )}
    </>
  );
}

function Row({ crossing: c }: { crossing: Crossing }) {
  const p = c.progress;
  const done = share(p);
  return (
    <li className="rounded-md border border-line bg-sheet px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <Link
          to={`/crossings/${encodeURIComponent(c.name)}`}
          className="text-lg font-semibold break-all text-timber underline decoration-line underline-offset-4 hover:decoration-timber"
        >
          {c.name}
        </Link>
        <span className="text-sm text-soft">
          {c.source} to {c.target}
        </span>
        <span className="ml-auto text-sm">
          <StateMark crossing={c} />
        </span>
      </div>
      {c.reason !== "" && <p className="mt-1 text-sm text-brick">{c.reason}</p>}
      <div className="mt-2 flex items-center gap-3">
        <Bar share={done} label={`${c.name}: loaded`} />
        <span className="num w-14 text-right text-sm">{p.chunks > 0 ? percent(done) : "–"}</span>
      </div>
      <p className="num mt-1 text-xs text-soft">
        {whole(p.rows)} rows, {whole(p.rows_per_second)} rows/s
        {p.capture !== "none" && `, lag ${duration(p.lag_seconds)}, ${whole(p.changes)} changes applied`}
        {p.tables_held > 0 && `, ${String(p.tables_held)} tables held`}
      </p>
    </li>
  );
}
