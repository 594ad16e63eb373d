import type { Crossing } from "../../api";
import { count, duration } from "../../format";
import { useLive } from "../../live";
import { Panel } from "../../parts/Fields";
import { Moment } from "../../time";

/** The gateways between applications and the databases, and where they lead; nothing where there are none. */
export function Gateways({ crossing: c }: { crossing: Crossing }) {
  const all = useLive("/api/crossings/{name}/gateways", { path: { name: c.name } });
  const route = all.data?.route;
  if (route === undefined) return null;
  const [says, tone] = {
    live: [`Connections lead to ${route.live}`, "text-reed"],
    holding: [`Connections are held; they led to ${route.live}`, "text-amber"],
    moved: [`Connections are refused: ${route.live}, in charge, is of another engine`, "text-amber"],
  }[route.state] as [string, string];
  return (
    <Panel title="Gateways" className="mt-3">
      <p role="status" className={`text-sm font-medium ${tone}`}>
        {says}
      </p>
      {all.data?.gateways.length === 0 && (
        <p className="mt-1 text-sm text-soft">None runs now: applications that use one cannot connect.</p>
      )}
      <ul className="mt-1 text-sm">
        {all.data?.gateways.map((g) => (
          <li
            key={g.name}
            className="grid gap-x-4 border-t border-line py-1 sm:grid-cols-[10rem_minmax(0,1fr)_auto]"
          >
            <span className="font-medium">{g.name}</span>
            <span className="text-soft">{g.listens}</span>
            <span className={g.lost ? "text-brick" : g.epoch < route.epoch ? "text-amber" : ""}>
              {g.lost ? (
                <>
                  lost: last heard of <Moment at={g.seen_at} relative />
                </>
              ) : (
                <>
                  <span className="num">
                    {count(g.sessions, "connection")}, {g.busy} at work, {g.waiting} held
                  </span>
                  {g.stall > 0 && <>; longest hold {duration(g.stall)}</>}
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
