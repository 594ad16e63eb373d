import { count, whole } from "../format";
import { Button } from "./Button";

/** Pages through what the service lists. */
export function Pager({
  page,
  setPage,
  size,
  matched,
  thing,
}: {
  page: number;
  setPage: (page: number) => void;
  size: number;
  matched: number;
  thing: string;
}) {
  const last = Math.max(0, Math.ceil(matched / size) - 1);
  if (last === 0) return null;
  return (
    <nav aria-label="Pages" className="flex items-center justify-end gap-3 py-2 text-sm">
      <span className="num text-soft">
        {whole(page * size + 1)} to {whole(Math.min(matched, (page + 1) * size))} of {count(matched, thing)}
      </span>
      <Button
        disabled={page === 0}
        onClick={() => {
          setPage(page - 1);
        }}
      >
        Before
      </Button>
      <Button
        disabled={page >= last}
        onClick={() => {
          setPage(page + 1);
        }}
      >
        After
      </Button>
    </nav>
  );
}
