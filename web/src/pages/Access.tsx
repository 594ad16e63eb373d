import { KeyRound } from "lucide-react";
import { useState } from "react";
import { api, take, type Role } from "../api";
import { useRead } from "../live";
import { Act } from "../parts/Act";
import { Choice, Input, Panel } from "../parts/Fields";
import { Nothing, Said } from "../parts/Said";
import { useForbidden, useSession } from "../session";
import { Moment } from "../time";

const roles = [
  ["viewer", "sees everything but rows of the databases, changes nothing"],
  ["operator", "plans, starts, steers and cuts over crossings"],
  ["admin", "also registers databases, sets commands and hands out tokens"],
  ["gateway", "asks where a gateway is to lead connections, and can do nothing else"],
] as const;

export default function Access() {
  const forbidden = useForbidden("admin");
  const me = useSession();
  const tokens = useRead("/api/tokens", {}, { enabled: forbidden === undefined });
  return (
    <>
      <title>Access, Dusty Ferry</title>
      <h1 className="text-xl font-semibold">Access</h1>
      <p className="text-sm">
        You are signed in with the token <strong>{me.name}</strong>; its role is <strong>{me.role}</strong>.
      </p>
      <dl className="mt-2 grid max-w-prose grid-cols-[6rem_1fr] gap-y-0.5 text-sm">
        {roles.map(([role, may]) => (
          <div key={role} className="contents">
            <dt className="font-medium">{role}</dt>
            <dd className="text-soft">{may}</dd>
          </div>
        ))}
      </dl>
      {forbidden !== undefined ? (
        <Nothing>{forbidden}</Nothing>
      ) : (
        <div className="mt-3 grid items-start gap-4 lg:grid-cols-[3fr_2fr]">
          <Panel title="Tokens">
            <Said of={tokens} reading="Reading the tokens">
              {(list) => (
                <ul className="mt-1">
                  {list.map((t) => (
                    <li
                      key={t.name}
                      className="flex flex-wrap items-center gap-x-4 gap-y-1 border-t border-line py-2 text-sm"
                    >
                      <span className="font-medium">{t.name}</span>
                      <span>
                        {t.role}
                        {t.role === "gateway" ? "" : t.see_rows ? ", sees rows" : ", sees no rows"}
                      </span>
                      <span className="text-soft">
                        made <Moment at={t.created_at} />,{" "}
                        {t.used_at ? (
                          <>
                            last used <Moment at={t.used_at} relative />
                          </>
                        ) : (
                          "never used"
                        )}
                      </span>
                      <span className="ml-auto">
                        <Act
                          needs="admin"
                          act={(confirm) =>
                            take(
                              api.DELETE("/api/tokens/{name}", {
                                params: { path: { name: t.name }, query: { confirm } },
                              }),
                            )
                          }
                          confirm={{
                            title: `Revoke ${t.name}?`,
                            verb: "Revoke",
                            typed: t.name,
                            body: (
                              <p>
                                Whoever uses it is signed out within seconds, here and on the command line.
                              </p>
                            ),
                          }}
                        >
                          Revoke
                        </Act>
                      </span>
                    </li>
                  ))}
                </ul>
              )}
            </Said>
          </Panel>
          <NewToken />
        </div>
      )}
    </>
  );
}

function NewToken() {
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [seeRows, setSeeRows] = useState<boolean>();
  const mayChoose = role === "viewer" || role === "operator";
  const [made, setMade] = useState<string>();
  return (
    <Panel title="Make a token">
      <div className="mt-2 grid gap-3">
        <Input
          label="Name"
          hint="whose it is, or what it is for"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
        />
        <Choice
          label="Role"
          value={role}
          onChange={(v) => {
            setRole(v as Role);
          }}
          options={roles.map(([r]) => [r, r] as const)}
        />
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            disabled={!mayChoose}
            checked={mayChoose ? (seeRows ?? role === "operator") : role === "admin"}
            onChange={(e) => {
              setSeeRows(e.target.checked);
            }}
          />
          May see rows of the databases
        </label>
        <Act
          strong
          needs="admin"
          blocked={name.trim() === "" ? "Give it a name" : undefined}
          act={async () => {
            const t = await take(
              api.POST("/api/tokens", {
                body: {
                  name: name.trim(),
                  role,
                  ...(mayChoose && seeRows !== undefined && { see_rows: seeRows }),
                },
              }),
            );
            setSeeRows(undefined);
            setMade(t.token);
            setName("");
          }}
        >
          <KeyRound size={15} aria-hidden /> Make it
        </Act>
        {made !== undefined && (
          <p role="status" className="rounded-md border border-reed px-3 py-2 text-sm">
            Keep it now, it is not shown again:
            <code className="num mt-1 block break-all select-all">{made}</code>
          </p>
        )}
      </div>
    </Panel>
  );
}
