/** One measured figure with its name and, below it, what puts it in relation. */
export function Figure({ name, value, beside }: { name: string; value: string; beside?: string }) {
  return (
    <div className="min-w-0 rounded-md border border-line bg-sheet px-3 py-2">
      <dt className="text-xs text-soft">{name}</dt>
      <dd className="num truncate text-xl font-semibold">{value}</dd>
      <dd className="truncate text-xs text-soft">{beside ?? "\u00a0"}</dd>
    </div>
  );
}
