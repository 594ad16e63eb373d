import { api, take, type Crossing } from "../../api";
import { useLive } from "../../live";
import { Act } from "../../parts/Act";

/** The longer pieces of work that are under way on a crossing, each with a way to end it. */
export function Tasks({ crossing: c }: { crossing: Crossing }) {
  const tasks = useLive(
    "/api/crossings/{name}/tasks",
    { path: { name: c.name } },
    { enabled: c.progress.work !== undefined && c.progress.work !== "" },
  );
  const open = (tasks.data ?? []).filter((t) => t.state === "waiting" || t.state === "running");
  if (!c.progress.work || open.length === 0) return null;
  return (
    <ul aria-label="Work under way" className="no-print mb-2 grid gap-1">
      {open.map((t) => (
        <li
          key={t.id}
          className="flex flex-wrap items-center gap-x-3 gap-y-1 rounded-md border border-line bg-sheet px-3 py-1 text-sm"
        >
          <span className="min-w-0 break-words text-timber">
            <strong className="font-semibold">{t.kind}</strong>
            {t.note !== "" && `: ${t.note}`}
          </span>
          <span className="ml-auto">
            {t.ends ? (
              <span className="text-soft">is ending</span>
            ) : (
              t.cancellable && (
                <Act
                  act={() =>
                    take(
                      api.POST("/api/crossings/{name}/tasks/{id}/cancel", {
                        params: { path: { name: c.name, id: t.id } },
                      }),
                    )
                  }
                >
                  Cancel {t.kind}
                </Act>
              )
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}
