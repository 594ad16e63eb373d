import { useState } from "react";
import { api, take, type Crossing, type MadeObject } from "../../api";
import { duration } from "../../format";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";
import { Button } from "../../parts/Button";
import { Panel, Text } from "../../parts/Fields";
import { Nothing, Said } from "../../parts/Said";

const stages: Record<MadeObject["stage"], string> = {
  table: "At the start",
  before: "Before the load",
  deferred: "After the load",
  after: "Then",
  carried: "Last",
};

const tones: Record<MadeObject["state"], string> = {
  waiting: "text-soft",
  running: "text-timber",
  made: "text-reed",
  failed: "font-semibold text-brick",
  "left out": "text-soft",
};

/** Everything that the crossing makes on the target, with what came of it; what failed can be written by hand. */
export function Objects({ crossing: c }: { crossing: Crossing }) {
  const list = useLive("/api/crossings/{name}/objects", { path: { name: c.name } });
  return (
    <Panel title={`Objects on ${c.target}`}>
      <Said of={list} reading="Reading what is made">
        {(all) =>
          all.length === 0 ? (
            <Nothing>
              Nothing yet: from the start on, every table, index, constraint and statement is listed here with
              what came of it. A table’s plan shows its statements before.
            </Nothing>
          ) : (
            <div tabIndex={0} role="region" aria-label="Objects" className="mt-1 overflow-x-auto">
              <table className="w-full text-sm">
                <thead>
                  <tr className="text-left text-xs text-soft">
                    <th className="py-1 pr-3 font-medium">Made</th>
                    <th className="py-1 pr-3 font-medium">Object</th>
                    <th className="py-1 pr-3 font-medium">Of table</th>
                    <th className="py-1 pr-3 font-medium">State</th>
                    <th className="py-1 pr-3 text-right font-medium">Took</th>
                    <th className="w-2/5 py-1 font-medium">Statement</th>
                  </tr>
                </thead>
                <tbody>
                  {all.map((o, i) => (
                    <Line
                      key={o.id}
                      crossing={c}
                      object={o}
                      first={i === 0 || all[i - 1]?.stage !== o.stage}
                    />
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Said>
    </Panel>
  );
}

function Line({ crossing: c, object: o, first }: { crossing: Crossing; object: MadeObject; first: boolean }) {
  const [edited, setEdited] = useState<string>();
  const open =
    o.stage !== "table" && (o.state === "waiting" || o.state === "failed" || o.state === "left out");
  const put = (statement: string) =>
    take(
      api.PUT("/api/crossings/{name}/objects/{id}", {
        params: { path: { name: c.name, id: o.id } },
        body: { statement },
      }),
    );
  return (
    <tr className="border-t border-line align-top">
      <td className="py-1 pr-3 text-xs whitespace-nowrap text-soft">{first ? stages[o.stage] : ""}</td>
      <td className="py-1 pr-3">
        <span className="text-xs text-soft">{o.kind === "foreign" ? "foreign key" : o.kind} </span>
        <bdi>{o.name}</bdi>
      </td>
      <td className="num py-1 pr-3 text-xs">
        <bdi>{o.table}</bdi>
      </td>
      <td className="py-1 pr-3 text-xs">
        <span className={tones[o.state]}>{o.state}</span>
        {o.error !== "" && <span className="block max-w-md break-words">{o.error}</span>}
      </td>
      <td className="num py-1 pr-3 text-right text-xs whitespace-nowrap">
        {o.seconds === undefined ? "" : duration(o.seconds)}
      </td>
      <td className="py-1">
        <details open={o.state === "failed" || undefined}>
          <summary className="cursor-pointer text-xs text-soft">
            {o.state === "failed" ? "Edit statement" : "Show"}
          </summary>
          {open ? (
            <>
              <Text
                label={o.kind === "statement" ? `Statement ${o.name}` : `Statement of ${o.kind} ${o.name}`}
                rows={4}
                value={edited ?? o.statement}
                onChange={(e) => {
                  setEdited(e.target.value);
                }}
              />
              <div className="mt-1 flex flex-wrap gap-2">
                <Act
                  blocked={
                    edited === undefined || edited.trim() === "" ? "Nothing was written anew" : undefined
                  }
                  act={() => put(edited ?? o.statement)}
                  onDone={() => {
                    setEdited(undefined);
                  }}
                >
                  Save
                </Act>
                {o.state !== "left out" && (
                  <Act
                    act={() => put("")}
                    confirm={{
                      title: `Leave out ${o.kind} ${o.name}?`,
                      verb: "Leave it out",
                      body: <p>It is not made on {c.target}. Its statement can be written again later.</p>,
                    }}
                  >
                    Leave it out
                  </Act>
                )}
                {edited !== undefined && (
                  <Button
                    onClick={() => {
                      setEdited(undefined);
                    }}
                  >
                    As it was
                  </Button>
                )}
              </div>
              {c.condition === "held" && (
                <p className="text-xs text-soft">Resume the crossing to try it again.</p>
              )}
            </>
          ) : (
            <pre className="num mt-1 max-w-xl overflow-x-auto rounded-sm bg-wash p-2 text-xs whitespace-pre-wrap">
              {o.statement};
            </pre>
          )}
        </details>
      </td>
    </tr>
  );
}
