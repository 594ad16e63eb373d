import { MoveDown, MoveRight } from "lucide-react";
import { Link } from "react-router";
import type { Crossing } from "../api";
import { count, lagValue, perSecond } from "../format";
import { useLive } from "../live";

const to = (name: string) => `/crossings/${encodeURIComponent(name)}`;

/** Where a crossing has a way back, or is one: both databases, and what goes between them now. */
export function ReturnPath({ crossing: c }: { crossing: Crossing }) {
  if (c.return_by !== undefined) return c.phase === "cut over" ? <Open of={c} by={c.return_by} /> : null;
  if (c.return_of === undefined || ["cut over", "closed"].includes(c.phase)) return null;
  return <Picture flow={c} of={c.return_of} />;
}

function Open({ of, by }: { of: Crossing; by: string }) {
  const back = useLive("/api/crossings/{name}", { path: { name: by } });
  return back.data === undefined ? null : <Picture flow={back.data} of={of.name} link={by} />;
}

/** The database in charge, the one that follows it, and the arrow of the moment between them. */
function Picture({ flow: f, of, link }: { flow: Crossing; of: string; link?: string }) {
  const p = f.progress;
  const well = f.condition === "running" && p.capture !== "waiting";
  const tone = well ? "text-reed" : "text-amber";
  const gone = ["cut over", "closed"].includes(f.phase);
  return (
    <section aria-label="Return path" className="sheet mb-2 px-3 py-2 text-sm">
      <h2 className="text-xs text-soft">
        Return path of {of}
        {link !== undefined && (
          <>
            {": "}
            <Link to={to(link)} className="link">
              {link}
            </Link>
            {gone ? `, ${f.phase_label}` : ""}
          </>
        )}
      </h2>
      {gone ? (
        <p className="mt-1">
          The way was gone: <strong>{f.target}</strong> is in charge again
          {f.return_by !== undefined && (
            <>
              , and{" "}
              <Link to={to(f.return_by)} className="link">
                {f.return_by}
              </Link>{" "}
              brings what is written there to {f.source}
            </>
          )}
          .
        </p>
      ) : (
        <div className="mt-1 grid items-center gap-2 sm:grid-cols-[minmax(0,1fr)_auto_minmax(0,1fr)]">
          <Side name={f.source} says="in charge: takes writes" beside={`read by ${p.capture}`} strong />
          <div className={`flex items-center justify-center gap-2 sm:flex-col sm:gap-0 ${tone}`}>
            <MoveRight size={34} aria-hidden className="max-sm:hidden" />
            <MoveDown size={26} aria-hidden className="sm:hidden" />
            <span className="num font-semibold">{well ? `lag ${lagValue(p)}` : f.condition}</span>
            <span className="num text-xs text-soft">{perSecond(p.changes_per_second, "changes")}</span>
          </div>
          <Side
            name={f.target}
            says="follows, closed to everybody else"
            beside={`${count(p.changes, "change")} brought back${p.applied_position ? `, up to ${p.applied_position}` : ""}`}
          />
        </div>
      )}
      {!gone && (
        <p className="mt-1.5 text-xs text-soft">
          Nothing that is written to {f.source} is lost by going back: that is{" "}
          <Link to={`${to(f.name)}/cutover`} className="link">
            the cutover of {f.name}
          </Link>
          . Closing {f.name} gives the way back up.
        </p>
      )}
    </section>
  );
}

function Side({
  name,
  says,
  beside,
  strong,
}: {
  name: string;
  says: string;
  beside: string;
  strong?: boolean;
}) {
  return (
    <div
      className={`min-w-0 rounded-md border px-3 py-2 ${strong ? "border-honey border-2" : "border-line"}`}
    >
      <div className="truncate font-semibold">
        <bdi>{name}</bdi>
      </div>
      <div className={strong ? "" : "text-soft"}>{says}</div>
      <div className="num text-xs break-words text-soft">{beside}</div>
    </div>
  );
}
