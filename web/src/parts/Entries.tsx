import { Download } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { address, type JournalEntry } from "../api";
import { useLive } from "../live";
import { useParam } from "../params";
import { Moment } from "../time";
import { Button } from "./Button";
import { Choice, Input, Search } from "./Fields";
import { Nothing, Said } from "./Said";

const tones = { info: "", warning: "text-amber", error: "text-brick" } as const;
const step = 200;

/** Who did what when: the whole journal, or one crossing's live log. */
export function Entries({ crossing }: { crossing?: string }) {
  const [search, setSearch] = useParam("search");
  const [severity, setSeverity] = useParam("severity");
  const [subject, setSubject] = useParam("about");
  const [actor, setActor] = useParam("actor");
  const [act, setAct] = useParam("act");
  const [named, setNamed] = useParam("crossing");
  const [since, setSince] = useParam("since");
  const [limit, setLimit] = useState(step);
  const moment = since === "" || Number.isNaN(Date.parse(since)) ? undefined : new Date(since);
  const query = {
    crossing: crossing ?? named,
    search,
    severity,
    subject,
    actor,
    act,
    since: moment?.toISOString(),
  };
  const entries = useLive("/api/journal", { query: { ...query, limit } }, { keep: true });
  const file = (format: string) => address("/api/journal/export" as never, { query: { ...query, format } });
  const field = (label: string, value: string, set: (v: string) => void) => (
    <Search label={label} value={value} onChange={set} />
  );
  return (
    <>
      <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4 lg:grid-cols-7">
        {field("Search the text", search, setSearch)}
        <Choice
          label="Severity"
          value={severity}
          onChange={setSeverity}
          options={[
            ["", "all"],
            ["warning", "warnings and errors"],
            ["error", "errors"],
          ]}
        />
        {field(crossing === undefined ? "About (table, database …)" : "Table", subject, setSubject)}
        {crossing === undefined && field("Crossing", named, setNamed)}
        {field("Who", actor, setActor)}
        {field("Act", act, setAct)}
        <Input
          label="Since"
          type="datetime-local"
          error={since !== "" && !moment ? `“${since}” is no time; all entries are shown` : undefined}
          value={since}
          onChange={(e) => {
            setSince(e.target.value);
          }}
        />
      </div>
      <p className="mt-2 flex flex-wrap items-center gap-4 text-sm">
        <a className="link inline-flex items-center gap-1" href={file("csv")} download>
          <Download size={14} aria-hidden /> these entries as CSV
        </a>
        <a className="link inline-flex items-center gap-1" href={file("jsonl")} download>
          <Download size={14} aria-hidden /> as JSON lines
        </a>
      </p>
      <Said of={entries} reading="Reading the journal">
        {(list) =>
          list.length === 0 ? (
            <Nothing>No entries match these filters.</Nothing>
          ) : (
            <>
              <ol className="sheet mt-2 px-3 py-1" aria-label="Entries, newest first">
                {list.map((e) => (
                  <Entry key={e.id} entry={e} inCrossing={crossing !== undefined} />
                ))}
              </ol>
              {list.length === limit && (
                <p className="mt-2 text-center">
                  <Button
                    onClick={() => {
                      setLimit(limit + 4 * step);
                    }}
                  >
                    Show older entries
                  </Button>
                </p>
              )}
            </>
          )
        }
      </Said>
    </>
  );
}

function Entry({ entry: e, inCrossing }: { entry: JournalEntry; inCrossing: boolean }) {
  return (
    <li className="grid gap-x-3 border-t border-line py-1 text-sm first:border-0 md:grid-cols-[10.5rem_8rem_minmax(0,1fr)]">
      <span className="num text-xs leading-5 text-soft">
        <Moment at={e.at} />
      </span>
      <span className="min-w-0 truncate text-xs leading-5" title={e.actor}>
        {e.actor}
        {!inCrossing && e.crossing !== "" && (
          <>
            {" · "}
            <Link to={`/crossings/${encodeURIComponent(e.crossing)}`} className="link">
              {e.crossing}
            </Link>
          </>
        )}
      </span>
      <span className={`min-w-0 break-words ${tones[e.severity]}`}>
        {e.severity !== "info" && <strong>{e.severity}: </strong>}
        {e.message}
        {e.subject !== "" && !e.message.includes(e.subject) && (
          <span className="text-xs text-soft"> ({e.subject})</span>
        )}
        {e.detail !== undefined && (
          <details className="text-xs">
            <summary className="cursor-pointer text-soft">Details</summary>
            <pre className="num whitespace-pre-wrap">{e.detail}</pre>
          </details>
        )}
      </span>
    </li>
  );
}
