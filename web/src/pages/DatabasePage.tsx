import { RefreshCw, Trash2 } from "lucide-react";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, take, type Database, type Facts } from "../api";
import { count, duration } from "../format";
import { useRead } from "../live";
import { Act } from "../parts/Act";
import { Choice, Input, Panel } from "../parts/Fields";
import { parseNumber } from "../parts/number";
import { Figure } from "../parts/Figure";
import { Said } from "../parts/Said";
import { TableBrowser } from "../parts/TableBrowser";
import { UsedBy } from "../parts/UsedBy";
import { Verdicts } from "../parts/Verdicts";
import { useParam } from "../params";

export default function DatabasePage() {
  const { name = "" } = useParams();
  const path = { path: { name } };
  const database = useRead("/api/databases/{name}", path);
  const [facts, setFacts] = useState<Facts>();
  const [table, setTable] = useParam("table");
  const go = useNavigate();
  return (
    <Said of={database} reading="Reading the database">
      {(d) => (
        <>
          <title>{`${d.name}, database, Dusty Ferry`}</title>
          <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
            <h1 className="text-xl font-semibold break-words">{d.name}</h1>
            <span className="num text-sm break-all text-soft">
              {d.engine},{" "}
              {d.host === "" ? d.database : `${d.user} at ${d.host}:${d.port}/${d.database}, TLS ${d.tls}`}
            </span>
            <span className="ml-auto flex gap-2">
              <Act
                strong
                act={async () => {
                  setFacts(await take(api.POST("/api/databases/{name}/check", { params: path })));
                }}
              >
                <RefreshCw size={15} aria-hidden /> Check
              </Act>
              <Act
                needs="admin"
                blocked={
                  d.used_by.length > 0
                    ? `Used by ${d.used_by.join(", ")}: remove those crossings first`
                    : undefined
                }
                act={() => take(api.DELETE("/api/databases/{name}", { params: path }))}
                onDone={() => {
                  void go("/databases");
                }}
                confirm={{
                  title: `Forget ${d.name}?`,
                  verb: "Forget it",
                  body: <p>Only our record of how to reach it is removed. Nothing on the server changes.</p>,
                }}
              >
                <Trash2 size={15} aria-hidden /> Forget
              </Act>
            </span>
          </div>
          <p className="mt-1 text-sm">
            <UsedBy crossings={d.used_by} />
          </p>
          {facts && (
            <>
              <dl className="mt-3 grid grid-cols-2 gap-3 md:grid-cols-4">
                <Figure
                  name="Reached"
                  value={facts.version.replace(/ \(.*/, "")}
                  beside={`as ${facts.user}`}
                  tone="text-reed"
                />
                <Figure
                  name="Connection"
                  value={facts.encrypted === "not encrypted" ? "not encrypted" : "encrypted"}
                  beside={facts.encrypted}
                />
                <Figure name="Round trip" value={duration(facts.round_trip_seconds)} beside="best of five" />
                <Figure
                  name="Missing"
                  value={count(
                    [...facts.as_source, ...facts.as_target].filter((e) => e.verdict === "blocker").length,
                    "point",
                  )}
                  beside="each with a remedy"
                />
              </dl>
              <p className="mt-2 text-sm text-soft">Its engine can {facts.can.join(", ")}.</p>
              <div className="mt-3 grid items-start gap-4 lg:grid-cols-2">
                <Panel title="As a source">
                  <Verdicts entries={facts.as_source} folded={false} />
                </Panel>
                <Panel title="As a target">
                  <Verdicts entries={facts.as_target} folded={false} />
                </Panel>
              </div>
            </>
          )}
          <Change database={d} />
          <Panel title="Tables" className="mt-4">
            <TableBrowser database={name} selected={table} onSelect={setTable} />
          </Panel>
        </>
      )}
    </Said>
  );
}

const encryptions = [
  ["disable", "never encrypted"],
  ["prefer", "encrypted where the server has it"],
  ["require", "always encrypted"],
  ["verify-full", "always, certificate checked"],
] as const;
const strength = (tls: string | undefined) => encryptions.findIndex(([t]) => t === tls);

/** Edits the connection, which is tested before it is saved. */
function Change({ database: d }: { database: Database }) {
  const [edit, setEdit] = useState<Record<string, string>>({});
  const port = parseNumber(edit.port ?? String(d.port), { whole: true, min: 1, max: 65535 });
  const elsewhere =
    (edit.host ?? d.host) !== d.host ||
    port.value !== d.port ||
    (edit.tls !== undefined && strength(edit.tls) < strength(d.tls));
  const needsPassword = elsewhere && (edit.password ?? "") === "";
  const input = (key: string, now: string) => ({
    value: edit[key] ?? now,
    onChange: (e: { target: { value: string } }) => {
      setEdit({ ...edit, [key]: e.target.value });
    },
  });
  return (
    <details className="sheet mt-4 px-3 py-2 text-sm">
      <summary className="font-semibold">Edit connection</summary>
      <div className="mt-2 grid gap-2 md:grid-cols-4">
        <Input label="Host" {...input("host", d.host)} />
        <Input label="Port" inputMode="numeric" error={port.error} {...input("port", String(d.port))} />
        <Input label="User" {...input("user", d.user)} />
        <Input
          label="Password"
          type="password"
          autoComplete="off"
          placeholder={elsewhere ? "give it again" : "unchanged"}
          error={
            needsPassword
              ? "The stored one is sent to no other address and over no weaker connection"
              : undefined
          }
          {...input("password", "")}
        />
        <Choice
          label="Encryption"
          value={edit.tls ?? d.tls}
          onChange={(tls) => {
            setEdit({ ...edit, tls });
          }}
          options={encryptions}
        />
      </div>
      <div className="mt-2">
        <Act
          needs="admin"
          blocked={
            Object.keys(edit).length === 0
              ? "No changes to save"
              : (port.error ?? (needsPassword ? "Give the password again" : undefined))
          }
          act={() =>
            take(
              api.PATCH("/api/databases/{name}", {
                params: { path: { name: d.name } },
                body: {
                  ...(edit.host !== undefined && { host: edit.host }),
                  ...(edit.port !== undefined && port.value !== undefined && { port: port.value }),
                  ...(edit.tls !== undefined && { tls: edit.tls }),
                  ...(edit.user !== undefined && { user: edit.user }),
                  ...(edit.password !== undefined && edit.password !== "" && { password: edit.password }),
                },
              }),
            )
          }
          onDone={() => {
            setEdit({});
          }}
        >
          Test and save
        </Act>
      </div>
    </details>
  );
}
