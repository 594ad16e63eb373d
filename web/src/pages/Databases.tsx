import { Plus } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Database } from "../api";
import { useRead } from "../live";
import { Act } from "../parts/Act";
import { Choice, Input, Panel } from "../parts/Fields";
import { parseNumber } from "../parts/number";
import { Nothing, Said } from "../parts/Said";
import { UsedBy } from "../parts/UsedBy";

export default function Databases() {
  const databases = useRead("/api/databases");
  return (
    <>
      <title>Databases, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Databases</h1>
      <div className="mt-3 grid items-start gap-4 lg:grid-cols-[3fr_2fr]">
        <Said of={databases} reading="Reading the databases">
          {(list) =>
            list.length === 0 ? (
              <Nothing>
                No database is registered yet. Register the one to leave and the one to go to.
              </Nothing>
            ) : (
              <ul className="grid gap-2">
                {list.map((d) => (
                  <li key={d.name} className="sheet px-4 py-2">
                    <Link
                      to={`/databases/${encodeURIComponent(d.name)}`}
                      className="link font-semibold break-words"
                    >
                      {d.name}
                    </Link>
                    <span className="num block text-xs break-all text-soft">
                      {d.engine}, {where(d)}
                    </span>
                    <span className="block text-sm">
                      <UsedBy crossings={d.used_by} />
                    </span>
                  </li>
                ))}
              </ul>
            )
          }
        </Said>
        <Register />
      </div>
    </>
  );
}

/** Where a database is. */
const where = (d: Database) =>
  d.host === "" ? d.database : `${d.user} at ${d.host}:${d.port}/${d.database}`;

const empty = { name: "", host: "127.0.0.1", port: "5432", database: "", user: "", password: "" };

function Register() {
  const [form, setForm] = useState(empty);
  const [engine, setEngine] = useState<"postgres" | "mariadb" | "file" | "sqlite" | "folder">("postgres");
  const [tls, setTls] = useState<"prefer" | "disable" | "require" | "verify-full">("prefer");
  const go = useNavigate();
  const field = (name: keyof typeof empty) => ({
    value: form[name],
    onChange: (e: { target: { value: string } }) => {
      setForm({ ...form, [name]: e.target.value });
    },
  });
  const file = engine === "file" || engine === "sqlite" || engine === "folder";
  const port = parseNumber(form.port, { whole: true, min: 1, max: 65535 });
  const needed = file
    ? (["name", "database"] as const)
    : (["name", "host", "port", "database", "user"] as const);
  const missing = needed.find((k) => form[k].trim() === "");
  return (
    <Panel title="Register a database">
      <p className="mt-1 text-sm text-soft">
        It is reached once with what you give, before it is kept. The password is encrypted at rest and never
        shown again.
      </p>
      <div className="mt-2 grid grid-cols-2 gap-3">
        <Input label="Name in Dusty Ferry" {...field("name")} className="col-span-2" autoComplete="off" />
        <Choice
          label="Engine"
          value={engine}
          onChange={(v) => {
            setEngine(v as typeof engine);
            setForm({ ...form, port: v === "mariadb" ? "3306" : "5432" });
          }}
          options={[
            ["postgres", "PostgreSQL"],
            ["mariadb", "MariaDB"],
            ["file", "A file on the service's machine"],
            ["sqlite", "A SQLite file, made where there is none"],
            ["folder", "A folder that tables are written to as files, made where there is none"],
          ]}
          className="col-span-2"
        />
        {file ? (
          <Input
            label="Path"
            hint="whole, as it is on the service's machine, in a folder that the service opens files of (serve --files); a folder, or a pattern such as readings-*.csv.gz, for several files of rows"
            {...field("database")}
            className="col-span-2"
            autoComplete="off"
          />
        ) : (
          <>
            <Input label="Host" {...field("host")} />
            <Input label="Port" inputMode="numeric" error={port.error} {...field("port")} />
            <Input label="Database" {...field("database")} />
            <Input label="User" {...field("user")} autoComplete="off" />
            <Input label="Password" type="password" {...field("password")} autoComplete="new-password" />
            <Choice
              label="Encryption"
              value={tls}
              onChange={(v) => {
                setTls(v as typeof tls);
              }}
              options={[
                ["prefer", "where the server has it"],
                ["require", "always"],
                ["verify-full", "always, certificate checked"],
                ["disable", "never"],
              ]}
            />
          </>
        )}
      </div>
      <div className="mt-3">
        <Act
          strong
          needs="admin"
          blocked={
            missing
              ? `The ${file && missing === "database" ? "path" : missing} is missing`
              : file
                ? undefined
                : port.error
          }
          act={() =>
            take(
              api.POST("/api/databases", {
                body: file
                  ? {
                      ...empty,
                      name: form.name,
                      database: form.database,
                      engine,
                      host: "",
                      port: 0,
                      tls: "disable",
                    }
                  : { ...form, engine, port: port.value ?? 0, tls },
              }),
            )
          }
          onDone={() => {
            void go(`/databases/${encodeURIComponent(form.name)}`);
          }}
        >
          <Plus size={15} aria-hidden /> Register
        </Act>
      </div>
    </Panel>
  );
}
