import { Link } from "react-router";

/** The crossings that use a database, as links. */
export function UsedBy({ crossings }: { crossings: string[] }) {
  if (crossings.length === 0) return <span className="text-soft">No crossing uses it</span>;
  return (
    <>
      Used by{" "}
      {crossings.map((c, i) => (
        <span key={c}>
          {i > 0 && ", "}
          <Link to={`/crossings/${encodeURIComponent(c)}`} className="link">
            {c}
          </Link>
        </span>
      ))}
    </>
  );
}
