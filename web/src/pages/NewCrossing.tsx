import { ArrowRight } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take } from "../api";
import { useRead } from "../live";
import { Act } from "../parts/Act";
import { Choice, Input, Panel } from "../parts/Fields";
import { Nothing, Said } from "../parts/Said";

export default function NewCrossing() {
  const databases = useRead("/api/databases");
  const [name, setName] = useState("");
  const [source, setSource] = useState("");
  const [target, setTarget] = useState("");
  const [copyRows, setCopyRows] = useState(true);
  const [follow, setFollow] = useState(true);
  const [from, setFrom] = useState("");
  const [slot, setSlot] = useState("");
  const go = useNavigate();
  const hasSlots = (list: { name: string; engine: string }[]) =>
    list.find((d) => d.name === source)?.engine === "postgres";
  const missing =
    name.trim() === ""
      ? "Give it a name"
      : source === ""
        ? "Choose the source"
        : target === ""
          ? "Choose the target"
          : source === target
            ? "Source and target are the same"
            : !copyRows && !follow
              ? "Copy rows, follow changes, or both"
              : undefined;
  return (
    <>
      <title>Plan a crossing, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Plan a crossing</h1>
      <p className="mt-1 max-w-prose text-sm text-soft">
        This makes a draft. Nothing on either side changes until you have chosen the tables, seen the survey
        and started it.
      </p>
      <Said of={databases} reading="Reading the databases">
        {(list) =>
          list.length < 2 ? (
            <Nothing>
              A crossing needs two databases; {list.length === 0 ? "none is" : "one is"} registered. Register
              them under{" "}
              <Link to="/databases" className="link">
                Databases
              </Link>
              .
            </Nothing>
          ) : (
            <Panel title="From where to where" className="mt-3 max-w-2xl">
              <div className="mt-2 grid gap-3 sm:grid-cols-2">
                <Input
                  label="Name"
                  hint="Letters, digits, - _ and ."
                  value={name}
                  onChange={(e) => {
                    setName(e.target.value);
                  }}
                />
                <div className="self-center text-sm">
                  {(
                    [
                      ["Copy the rows that are there", copyRows, setCopyRows],
                      ["Follow changes while they come", follow, setFollow],
                    ] as const
                  ).map(([label, on, set]) => (
                    <label key={label} className="flex items-center gap-2 py-1">
                      <input
                        type="checkbox"
                        checked={on}
                        onChange={(e) => {
                          set(e.target.checked);
                        }}
                      />
                      {label}
                    </label>
                  ))}
                </div>
                {(
                  [
                    ["Source", source, setSource],
                    ["Target", target, setTarget],
                  ] as const
                ).map(([label, value, set]) => (
                  <Choice
                    key={label}
                    label={label}
                    value={value}
                    onChange={set}
                    options={[
                      ["", "choose …"],
                      ...list.map((d) => [d.name, `${d.name} (${d.host}:${d.port}/${d.database})`] as const),
                    ]}
                  />
                ))}
                {!copyRows && (
                  <>
                    <Input
                      label="Changes from"
                      hint="log position or GTID at which the target's rows stand"
                      placeholder="now"
                      value={from}
                      onChange={(e) => {
                        setFrom(e.target.value);
                      }}
                    />
                    {hasSlots(list) && (
                      <Input
                        label="Replication slot"
                        hint="one that stands on the source, which keeps its log from there"
                        placeholder="one is made at the start"
                        value={slot}
                        onChange={(e) => {
                          setSlot(e.target.value);
                        }}
                      />
                    )}
                  </>
                )}
              </div>
              <div className="mt-3">
                <Act
                  strong
                  blocked={missing}
                  act={() => {
                    const settings = !copyRows
                      ? { start_from: from.trim(), slot: hasSlots(list) ? slot.trim() : "" }
                      : undefined;
                    return take(
                      api.POST("/api/crossings", {
                        body: {
                          name: name.trim(),
                          source,
                          target,
                          copy_rows: copyRows,
                          follow_changes: follow,
                          ...(settings && { settings }),
                        },
                      }),
                    );
                  }}
                  onDone={() => {
                    void go(`/crossings/${encodeURIComponent(name.trim())}/plan`);
                  }}
                >
                  Make the draft and choose tables <ArrowRight size={15} aria-hidden />
                </Act>
                {missing && <span className="ml-3 text-sm text-soft">{missing}</span>}
              </div>
            </Panel>
          )
        }
      </Said>
    </>
  );
}
