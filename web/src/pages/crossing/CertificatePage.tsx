import { useQuery } from "@tanstack/react-query";
import { Download, Printer } from "lucide-react";
import type { Crossing } from "../../api";
import { read, type Refused } from "../../api";
import { count, duration, whole } from "../../format";
import { Button } from "../../parts/Button";
import { Nothing, Said } from "../../parts/Said";
import { Moment } from "../../time";

interface Side {
  name: string;
  engine: string;
  host: string;
  port: number;
  database: string;
  user: string;
}
interface Certificate {
  crossing: string;
  kind: string;
  phase: string;
  closed_by: string;
  rejected_rows?: number;
  source: Side;
  target: Side;
  findings?: number;
  start_position?: string;
  created_at?: string;
  started_at?: string;
  landed_at?: string;
  in_step_at?: string;
  cut_over_at?: string;
  closed_at?: string;
  reconciliation?: {
    state: string;
    depth: string;
    findings: number;
    source_rows: number;
    target_rows: number;
    tables: number;
    position?: string;
    ended_at?: string;
  };
  cutover?: {
    decided_by: string;
    at: string;
    end_position?: string;
    write_pause_seconds?: number;
    steps?: { step: string; state: string; seconds?: number; note?: string }[];
  };
  tables: {
    table: string;
    rows_loaded: number;
    source_rows?: number;
    target_rows?: number;
    findings?: number;
    inserts: number;
    updates: number;
    deletes: number;
    compared_at?: string;
    source_hash?: string;
    target_hash?: string;
  }[];
  tables_not_compared?: number;
}

/** The account of a finished crossing, to print and to file. */
export function CertificatePage({ crossing: c }: { crossing: Crossing }) {
  const url = `/api/crossings/${encodeURIComponent(c.name)}/certificate`;
  const certificate = useQuery<Certificate, Refused>({
    queryKey: [url],
    queryFn: ({ signal }) => read<Certificate>(url, signal),
    enabled: c.phase === "closed",
    // Closing goes on for a while after the phase says so, and writes it at its end.
    refetchInterval: (q) => (q.state.status === "error" && c.phase === "closed" ? 1000 : false),
  });
  if (c.phase !== "closed") {
    return (
      <Nothing>The certificate is written when the crossing is closed. It is {c.phase_label} now.</Nothing>
    );
  }
  return (
    <Said of={certificate} reading="Reading the certificate">
      {(k) => (
        <>
          <div className="no-print flex flex-wrap items-center justify-end gap-2">
            <Button
              onClick={() => {
                window.print();
              }}
            >
              <Printer size={15} aria-hidden /> Print
            </Button>
            <a
              className="link inline-flex items-center gap-1 text-sm"
              href={url}
              download={`${c.name}-certificate.json`}
            >
              <Download size={15} aria-hidden /> as JSON
            </a>
            <a
              className="link inline-flex items-center gap-1 text-sm"
              href={`${url}?format=text`}
              download={`${c.name}-certificate.txt`}
            >
              <Download size={15} aria-hidden /> as text
            </a>
          </div>
          <article className="sheet mt-2 px-6 py-5">
            <h2 className="text-lg font-semibold">Certificate of the crossing {k.crossing}</h2>
            <dl className="mt-3 grid grid-cols-[9rem_1fr] gap-y-1 text-sm">
              <Line name="Kind">{k.kind}</Line>
              <Line name="From">
                <Where side={k.source} />
              </Line>
              <Line name="To">
                <Where side={k.target} />
              </Line>
              {(
                [
                  ["Created", k.created_at],
                  ["Started", k.started_at],
                  ["Loaded", k.landed_at],
                  ["In step", k.in_step_at],
                  ["Cut over", k.cut_over_at],
                  ["Closed", k.closed_at],
                ] as const
              ).map(
                ([name, at]) =>
                  at && (
                    <Line key={name} name={name}>
                      <Moment at={at} full />
                    </Line>
                  ),
              )}
              {k.start_position && <Line name="Captured from">log position {k.start_position}</Line>}
              <Line name="Closed by">{k.closed_by}</Line>
              {(k.rejected_rows ?? 0) > 0 && (
                <Line name="Rejected rows">
                  {count(k.rejected_rows ?? 0, "row")} that the target could not take; the file lists them
                </Line>
              )}
            </dl>
            <h3 className="mt-4 font-semibold">Reconciliation</h3>
            {k.reconciliation ? (
              <p className="text-sm">
                {k.reconciliation.state} ({k.reconciliation.depth}), {whole(k.reconciliation.findings)}{" "}
                findings:{" "}
                {k.reconciliation.depth === "vouched" ? "looked at, as changes had touched them since: " : ""}
                {whole(k.reconciliation.source_rows)} rows on the source,{" "}
                {whole(k.reconciliation.target_rows)} on the target, in {k.reconciliation.tables} tables
                {k.reconciliation.position && `, at log position ${k.reconciliation.position}`}.
              </p>
            ) : (
              <p className="text-sm">None was made.</p>
            )}
            {(k.tables_not_compared ?? 0) > 0 && (
              <p className="text-sm text-amber">
                {count(k.tables_not_compared ?? 0, "table")} not compared since the last load: see the list.
              </p>
            )}
            {k.cutover && (
              <>
                <h3 className="mt-4 font-semibold">Cutover</h3>
                <p className="text-sm">
                  Decided by {k.cutover.decided_by}, <Moment at={k.cutover.at} full />
                  {k.cutover.end_position && `, end position ${k.cutover.end_position}`}
                  {k.cutover.write_pause_seconds !== undefined &&
                    `, writes paused for ${duration(k.cutover.write_pause_seconds)}`}
                  .
                </p>
                <ol className="mt-1 text-sm">
                  {(k.cutover.steps ?? []).map((s) => (
                    <li
                      key={s.step}
                      className="grid grid-cols-[9rem_4.5rem_5rem_minmax(0,1fr)] gap-x-3 border-t border-line py-0.5"
                    >
                      <span>{s.step}</span>
                      <span>{s.state}</span>
                      <span className="num text-right">
                        {s.seconds === undefined ? "" : duration(s.seconds)}
                      </span>
                      <span className="break-words text-soft">{s.note}</span>
                    </li>
                  ))}
                </ol>
              </>
            )}
            <h3 className="mt-4 font-semibold">Tables</h3>
            <div tabIndex={0} role="region" aria-label="Tables" className="overflow-x-auto">
              <table className="w-full text-sm">
                <thead>
                  <tr className="text-left text-xs text-soft">
                    {["Table", "Rows loaded", "Source rows", "Target rows", "Changes", "Findings"].map(
                      (h, i) => (
                        <th key={h} className={`py-1 pr-3 font-medium ${i > 0 ? "text-right" : ""}`}>
                          {h}
                        </th>
                      ),
                    )}
                    <th className="py-1 pr-3 font-medium">Compared</th>
                    <th className="py-1 font-medium">Hash on both sides</th>
                  </tr>
                </thead>
                <tbody>
                  {k.tables.map((t) => (
                    <tr key={t.table} className="border-t border-line">
                      <td className="py-0.5 pr-3 break-words">
                        <bdi>{t.table}</bdi>
                      </td>
                      <Number n={t.rows_loaded} />
                      <Number n={t.source_rows} />
                      <Number n={t.target_rows} />
                      <Number n={t.inserts + t.updates + t.deletes} />
                      <Number n={t.findings} />
                      <td className="num py-0.5 pr-3 text-xs">
                        {t.compared_at === undefined ? "–" : <Moment at={t.compared_at} full />}
                      </td>
                      <td className="num py-0.5 text-xs">
                        {t.source_hash === undefined
                          ? t.compared_at === undefined
                            ? "not compared since it was loaded"
                            : "compared by counts only"
                          : t.source_hash === t.target_hash
                            ? t.source_hash
                            : `${t.source_hash} / ${t.target_hash ?? ""}`}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          </article>
        </>
      )}
    </Said>
  );
}

const Line = ({ name, children }: { name: string; children: React.ReactNode }) => (
  <>
    <dt className="text-soft">{name}</dt>
    <dd className="min-w-0 break-words">{children}</dd>
  </>
);

const Where = ({ side: s }: { side: Side }) => (
  <>
    {s.name}{" "}
    <span className="num text-soft">
      {s.engine}, {s.user} at {s.host}:{s.port}/{s.database}
    </span>
  </>
);

const Number = ({ n }: { n: number | undefined }) => (
  <td className="num py-0.5 pr-3 text-right">{n === undefined ? "–" : whole(n)}</td>
);
