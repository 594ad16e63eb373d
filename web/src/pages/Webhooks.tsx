import { useState } from "react";
import { api, take, type Event } from "../api";
import { useRead } from "../live";
import { Act } from "../parts/Act";
import { Button } from "../parts/Button";
import { Input, Panel } from "../parts/Fields";
import { Nothing, Said } from "../parts/Said";
import { useForbidden } from "../session";
import { Moment } from "../time";

const events: readonly Event[] = [
  "loaded",
  "in step",
  "held",
  "failed",
  "lag",
  "log",
  "differs",
  "cut over",
  "undone",
];

/** Who else is told of what happens. */
export function Webhooks() {
  const forbidden = useForbidden("admin");
  const list = useRead("/api/webhooks", {}, { enabled: forbidden === undefined });
  const [open, setOpen] = useState("");
  return (
    <Panel title="Webhooks" className="mt-3">
      {forbidden !== undefined ? (
        <Nothing>{forbidden}</Nothing>
      ) : (
        <Said of={list} reading="Reading the webhooks">
          {(all) => (
            <>
              {all.length === 0 && <Nothing>No other system is told yet.</Nothing>}
              <ul>
                {all.map((w) => (
                  <li key={w.name} className="border-t border-line py-1.5 text-sm">
                    <span className="flex flex-wrap items-center gap-x-4 gap-y-1">
                      <span className="font-medium">{w.name}</span>
                      <span className="num break-all text-soft">{w.url}</span>
                      <span>{w.events.length === 0 ? "all events" : w.events.join(", ")}</span>
                      {w.crossings !== "*" && <span>of {w.crossings}</span>}
                      <span className="ml-auto flex flex-wrap gap-2">
                        <Act
                          needs="admin"
                          act={() =>
                            take(
                              api.POST("/api/webhooks/{name}/test", { params: { path: { name: w.name } } }),
                            )
                          }
                          onDone={() => {
                            setOpen(w.name);
                          }}
                        >
                          Try it
                        </Act>
                        <Button
                          aria-expanded={open === w.name}
                          onClick={() => {
                            setOpen(open === w.name ? "" : w.name);
                          }}
                        >
                          What was sent
                        </Button>
                        <Act
                          needs="admin"
                          act={() =>
                            take(api.DELETE("/api/webhooks/{name}", { params: { path: { name: w.name } } }))
                          }
                          confirm={{
                            title: `Remove ${w.name}?`,
                            verb: "Remove it",
                            body: <p>No further messages are sent; what is on its way is dropped.</p>,
                          }}
                        >
                          Remove
                        </Act>
                      </span>
                    </span>
                    {open === w.name && <Sent name={w.name} />}
                  </li>
                ))}
              </ul>
              <New />
            </>
          )}
        </Said>
      )}
    </Panel>
  );
}

function Sent({ name }: { name: string }) {
  const sent = useRead("/api/webhooks/{name}/deliveries", { path: { name } });
  return (
    <Said of={sent} reading="Reading what was sent">
      {(list) =>
        list.length === 0 ? (
          <Nothing>Nothing yet.</Nothing>
        ) : (
          <ul className="mt-1 max-h-48 overflow-y-auto text-xs" tabIndex={0} aria-label="Deliveries">
            {list.map((d) => (
              <li key={d.id} className="border-t border-line py-1">
                <Moment at={d.created_at} /> {d.event}:{" "}
                <span className={d.done_at ? "text-reed" : d.next_at ? "text-amber" : "text-brick"}>
                  {d.done_at ? "arrived" : d.next_at ? "on its way" : "given up"}
                </span>
                {d.attempts > 1 && `, ${String(d.attempts)} tries`}
                {d.answer !== "" && `, ${d.answer}`}
              </li>
            ))}
          </ul>
        )
      }
    </Said>
  );
}

function New() {
  const [edit, setEdit] = useState({ name: "", url: "", secret: "", crossings: "*" });
  const [chosen, setChosen] = useState<Event[]>([]);
  const input = (key: keyof typeof edit) => ({
    value: edit[key],
    onChange: (e: { target: { value: string } }) => {
      setEdit({ ...edit, [key]: e.target.value });
    },
  });
  return (
    <div className="mt-2 border-t border-line pt-2">
      <div className="grid gap-2 md:grid-cols-4">
        <Input label="Name" {...input("name")} />
        <Input label="Address" placeholder="https://…" {...input("url")} />
        <Input
          label="Secret"
          type="password"
          autoComplete="off"
          hint="at least 16 characters; messages are signed by it"
          {...input("secret")}
        />
        <Input label="Crossings" hint="by name, with *" {...input("crossings")} />
      </div>
      <p className="mt-1 text-sm text-soft">Events (none chosen: all)</p>
      <div className="flex flex-wrap gap-x-4 text-sm">
        {events.map((e) => (
          <label key={e} className="inline-flex items-center gap-1.5 py-1">
            <input
              type="checkbox"
              checked={chosen.includes(e)}
              onChange={() => {
                setChosen(chosen.includes(e) ? chosen.filter((x) => x !== e) : [...chosen, e]);
              }}
            />
            {e}
          </label>
        ))}
      </div>
      <div className="mt-1">
        <Act
          needs="admin"
          blocked={edit.name === "" || edit.url === "" ? "Give it a name and an address" : undefined}
          act={() => take(api.POST("/api/webhooks", { body: { ...edit, events: chosen } }))}
          onDone={() => {
            setEdit({ name: "", url: "", secret: "", crossings: "*" });
            setChosen([]);
          }}
        >
          Add it
        </Act>
      </div>
    </div>
  );
}
