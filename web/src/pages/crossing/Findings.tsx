import { RefreshCw, Wrench } from "lucide-react";
import { useState } from "react";
import { api, take, type Crossing, type Finding, type Reconciliation } from "../../api";
import { count, whole } from "../../format";
import { useLive } from "../../live";
import { pageNumber, useParam } from "../../params";
import { Act } from "../../parts/Act";
import { Apart } from "../../parts/Apart";
import { Choice, Panel, Search } from "../../parts/Fields";
import { Pager } from "../../parts/Pager";
import { Nothing, Said } from "../../parts/Said";
import { useHiddenRows } from "../../session";
import { Moment } from "../../time";

const size = 50;

export function Findings(of: { crossing: Crossing; r: Reconciliation }) {
  const hidden = useHiddenRows();
  if (of.r.depth === "counts")
    return (
      <Panel title="Findings" className="mt-3">
        <Nothing>
          This comparison counted {count(of.r.findings, "row")} more on one side than on the other. Which ones
          they are, only a comparison by hashes finds.
        </Nothing>
      </Panel>
    );
  if (hidden !== undefined)
    return (
      <Panel title="Findings" className="mt-3">
        <Nothing>
          {count(of.r.open_findings, "finding")} of {whole(of.r.findings)} are open. {hidden}
        </Nothing>
      </Panel>
    );
  return <List {...of} />;
}

function List({ crossing: c, r }: { crossing: Crossing; r: Reconciliation }) {
  const [state, setState] = useParam("state");
  const [kind, setKind] = useParam("kind");
  const [table, setTable] = useParam("table");
  const [search, setSearch] = useParam("key");
  const [page, setPage] = useParam("page", "0");
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const list = useLive(
    "/api/crossings/{name}/reconciliations/{id}/findings",
    {
      path: { name: c.name, id: r.id },
      query: { state, kind, table, search, offset: pageNumber(page) * size || undefined, limit: size },
    },
    { keep: true },
  );
  const path = { params: { path: { name: c.name, id: r.id } } };
  const repair = (findings: number[]) => (confirm: string) =>
    take(
      api.POST("/api/crossings/{name}/reconciliations/{id}/repair", { ...path, body: { findings, confirm } }),
    );
  const recheck = (findings: number[]) => () =>
    take(api.POST("/api/crossings/{name}/reconciliations/{id}/recheck", { ...path, body: { findings } }));
  const open = list.data?.states.open ?? 0;
  const some = [...chosen];
  const what = some.length > 0 ? `${count(some.length, "finding")} chosen` : "all open";
  const number = some.length > 0 ? some.length : open;
  const mending =
    c.phase !== "catching up" && c.phase !== "in step"
      ? `Rows can be repaired between the load and the cutover; the crossing is ${c.phase_label}`
      : undefined;
  return (
    <Panel
      title="Findings"
      className="mt-3"
      beside={
        <span className="flex flex-wrap items-center gap-2">
          <span className="text-xs text-soft">
            {whole(open)} open, {whole(list.data?.states.repaired ?? 0)} repaired,{" "}
            {whole(list.data?.states.equal ?? 0)} compared again and equal
          </span>
          <Act
            strong={open > 0}
            blocked={open === 0 ? "No finding is open" : mending}
            act={repair(some)}
            onDone={() => {
              setChosen(new Set());
            }}
            confirm={{
              title: `Repair ${count(number, "finding")}?`,
              verb: "Copy these rows again",
              typed: c.name,
              body: (
                <p>
                  {count(number, "row")} of {c.target} are made what {c.source} has at one shared log
                  position: rows that are missing are put, rows that differ are overwritten, rows that are
                  extra are removed. The applier stands still for that moment.
                </p>
              ),
            }}
          >
            <Wrench size={15} aria-hidden /> Repair {what}
          </Act>
          <Act act={recheck(some)} onDone={() => undefined}>
            <RefreshCw size={15} aria-hidden /> Compare {some.length > 0 ? "the chosen" : "these rows"} again
          </Act>
        </span>
      }
    >
      <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
        <Choice
          label="State"
          value={state}
          onChange={setState}
          options={[
            ["", "any"],
            ["open", "open"],
            ["repaired", "repaired"],
            ["equal", "compared again, equal"],
          ]}
        />
        <Choice
          label="Kind"
          value={kind}
          onChange={setKind}
          options={[
            ["", "any"],
            ...(["missing on target", "extra on target", "differing"] as const).map((k) => [k, k] as const),
          ]}
        />
        <Choice
          label="Table"
          value={table}
          onChange={setTable}
          options={[
            ["", "any"],
            ...(r.results ?? [])
              .filter((t) => t.findings > 0)
              .map((t) => [t.name, `${t.name} (${whole(t.findings)})`] as const),
          ]}
        />
        <Search label="Part of the key" value={search} onChange={setSearch} />
      </div>
      <Said of={list} reading="Reading the findings">
        {(page_) =>
          page_.findings.length === 0 ? (
            <Nothing>No findings match these filters.</Nothing>
          ) : (
            <ul className="mt-2 grid gap-2">
              {page_.findings.map((f) => (
                <Row
                  key={f.id}
                  crossing={c}
                  f={f}
                  chosen={chosen.has(f.id)}
                  choose={(on) => {
                    const now = new Set(chosen);
                    if (on) now.add(f.id);
                    else now.delete(f.id);
                    setChosen(now);
                  }}
                  repair={repair([f.id])}
                  recheck={recheck([f.id])}
                  blocked={mending}
                />
              ))}
            </ul>
          )
        }
      </Said>
      <Pager
        page={pageNumber(page)}
        setPage={(p) => {
          setPage(String(p));
        }}
        size={size}
        matched={list.data?.matched ?? 0}
        thing="finding"
      />
    </Panel>
  );
}

const stateWords = {
  open: ["open", "text-brick"],
  repaired: ["repaired, not compared again yet", "text-amber"],
  equal: ["compared again: equal", "text-reed"],
} as const;

interface RowProps {
  crossing: Crossing;
  f: Finding;
  chosen: boolean;
  choose: (on: boolean) => void;
  repair: (confirm: string) => Promise<unknown>;
  recheck: () => Promise<unknown>;
  blocked: string | undefined;
}

/** One finding with both rows side by side. */
function Row({ crossing: c, f, chosen, choose, repair, recheck, blocked }: RowProps) {
  const [all, setAll] = useState(false);
  const source = f.source ?? undefined;
  const target = f.target ?? undefined;
  const differing = new Set(f.columns);
  const shown = all || differing.size === 0 ? f.order : f.order.filter((k) => differing.has(k));
  const [word, tone] = stateWords[f.state];
  const has = (row: typeof source) => row !== undefined && Object.keys(row).length > 0;
  return (
    <li id={`finding-${f.id}`} className="rounded-md border border-line px-3 py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={chosen}
            onChange={(e) => {
              choose(e.target.checked);
            }}
          />
          <span className="sr-only">Choose finding </span>
          <span className="num">#{f.id}</span>
        </label>
        <span className="font-medium break-words">
          <bdi>{f.table}</bdi>
          {f.key.length > 0 && <span className="num"> ({f.key.join(", ")})</span>}
        </span>
        <span>
          {f.kind}
          {f.copies > 1 && `, ${whole(f.copies)} copies`}
        </span>
        <span className={tone}>
          {word}
          {f.changed_at && (
            <>
              {" "}
              <Moment at={f.changed_at} />
            </>
          )}
        </span>
        <span className="ml-auto flex gap-2">
          {f.state === "open" && (
            <Act
              blocked={blocked}
              act={repair}
              confirm={{
                title: `Repair finding ${f.id}?`,
                verb: "Copy this row again",
                typed: c.name,
                body: (
                  <p>
                    One row of <bdi>{f.table}</bdi> on {c.target} is made what {c.source} has:{" "}
                    {f.kind === "extra on target"
                      ? "it is removed"
                      : f.kind === "missing on target"
                        ? "it is put"
                        : "it is overwritten"}
                    .
                  </p>
                ),
              }}
            >
              Repair
            </Act>
          )}
          <Act act={recheck}>Compare again</Act>
        </span>
      </div>
      <div tabIndex={0} role="region" aria-label={`Rows of finding ${f.id}`} className="mt-1 overflow-x-auto">
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-xs text-soft">
              <th className="w-40 py-0.5 pr-3 font-medium">Column</th>
              <th className="w-1/2 py-0.5 pr-3 font-medium">{c.source}</th>
              <th className="w-1/2 py-0.5 font-medium">{c.target}</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((k) => {
              const a = has(source) ? (source?.[k] ?? null) : undefined;
              const b = has(target) ? (target?.[k] ?? null) : undefined;
              const apart = differing.has(k);
              return (
                <tr key={k} className={`border-t border-line align-top ${apart ? "bg-wash" : ""}`}>
                  <th scope="row" className="py-0.5 pr-3 text-left font-normal break-words">
                    <bdi>{k}</bdi>
                    {apart && <span className="ml-1 text-xs font-semibold text-brick">differs</span>}
                  </th>
                  <td className="num py-0.5 pr-3 break-all">
                    <Apart value={a} other={b} />
                  </td>
                  <td className="num py-0.5 break-all">
                    <Apart value={b} other={a} />
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {differing.size > 0 && f.order.length > differing.size && (
        <button
          type="button"
          className="link mt-1 text-xs"
          onClick={() => {
            setAll(!all);
          }}
        >
          {all ? "Only what differs" : `Show all ${f.order.length} columns`}
        </button>
      )}
    </li>
  );
}
